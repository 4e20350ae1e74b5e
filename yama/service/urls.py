"""Addresses: the API, the one-time sign-in, what is open to other programs, and the desk for everything else."""

from __future__ import annotations

from django.urls import path, re_path

from yama.service.accounts.views import enter
from yama.service.api import api
from yama.service.desk import desk
from yama.service.sharing import wmts

urlpatterns = [
    path("api/", api.urls),
    path("enter/<str:token>", enter, name="enter"),
    path("open/<str:token>/1.0.0/WMTSCapabilities.xml", wmts.capabilities, name="capabilities"),
    path("open/<str:token>/tiles/<int:matrix>/<int:row>/<int:col>.png", wmts.tile, name="open-tile"),
    path("open/<str:token>/surface.tif", wmts.cells, name="open-cells"),
    re_path(r"^(?:projects/\d+|invited/[\w-]{16,64})?$", desk, name="desk"),
]
