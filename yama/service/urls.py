"""Addresses: the API, the one-time sign-in, and the desk for everything else."""

from __future__ import annotations

from django.urls import path, re_path

from yama.service.accounts.views import enter
from yama.service.api import api
from yama.service.desk import desk

urlpatterns = [
    path("api/", api.urls),
    path("enter/<str:token>", enter, name="enter"),
    re_path(r"^(?:projects/\d+)?$", desk, name="desk"),
]
