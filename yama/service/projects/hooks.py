"""What other apps have to say when a project changes. They name their functions when they start."""

from __future__ import annotations

from collections.abc import Callable

from yama.service.projects.models import Project
from yama.terrain.frame import Frame

Objection = Callable[[Project], str]
Changed = Callable[[Project, Frame, int | None], None]

_objections: list[Objection] = []
_changed: list[Changed] = []


def before_frame_changes(objection: Objection) -> None:
    """Let `objection` say why the frame of a project cannot change now; empty where it can."""
    _objections.append(objection)


def after_frame_changed(changed: Changed) -> None:
    """Let `changed` know of a project whose frame was another before, and who changed it."""
    _changed.append(changed)


def objection_to_another_frame(project: Project) -> str:
    """The first objection; empty where there is none."""
    return next((said for one in _objections if (said := one(project))), "")


def tell_frame_changed(project: Project, before: Frame, user_id: int | None) -> None:
    """Tell everybody who wants to know."""
    for one in _changed:
        one(project, before, user_id)
