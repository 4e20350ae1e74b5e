"""Addresses: the API, the one-time sign-in, what is open to other programs, the guide, and the desk for the rest."""

from __future__ import annotations

from django.urls import path, re_path

from yama.service import guide
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
    path("guide/", guide.guide, name="guide"),
    path("guide/guide.css", guide.sheet),
    path("guide/pictures/<slug:name>.png", guide.picture),
    path("guide/<slug:name>", guide.guide),
    re_path(r"^(?:projects/\d+|invited/[\w-]{16,64})?$", desk, name="desk"),
]
