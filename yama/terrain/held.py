"""What can be held in a project and given to an operation."""

from __future__ import annotations

from yama.terrain.cloud import Cloud
from yama.terrain.features import Features
from yama.terrain.images import Image
from yama.terrain.pictures import Picture
from yama.terrain.points import Points
from yama.terrain.surface import Surface
from yama.terrain.table import Table

Held = Surface | Points | Cloud | Features | Image | Picture | Table
