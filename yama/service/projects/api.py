"""Projects: list, make, look, members, frame, checkpoints, and what the desk remembers."""

from __future__ import annotations

import json
import zlib
from typing import Any, Literal

from django.contrib.auth.models import User
from django.db import transaction
from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from ninja import Body, Field, Router, Schema
from ninja.errors import HttpError

from yama.service.accounts.people import person
from yama.service.projects.access import membership, open_project
from yama.service.projects.hooks import objection_to_another_frame, tell_frame_changed
from yama.service.projects.models import Membership, Project
from yama.service.schemas import Failure
from yama.terrain.frame import Frame
from yama.terrain.grid import Bounds, Grid, crs_name, parse_crs

router = Router(tags=["projects"])

_DESK_LIMIT = 256_000
Role = Literal["viewer", "editor", "owner"]


class GridOut(Schema):
    """A north-up lattice; `west`, `north` are its outer corner, sizes in CRS units."""

    crs: str
    west: float
    north: float
    cell_width: float
    cell_height: float
    rows: int
    cols: int


class FrameOut(Schema):
    """The project's grid, height unit and zero level. cell_size: of a cell, in metres. metres_per_unit: on the
    ground, to a unit of x and of y at the grid's middle. mark: another for every other frame, for addresses of what
    is drawn on it."""

    grid: GridOut
    unit: str
    vertical_datum: str
    crs_title: str
    cell_size: float
    metres_per_unit: tuple[float, float]
    mark: str


class ProjectOut(Schema):
    """A project as its members see it."""

    id: int
    name: str
    role: Role
    frame: FrameOut
    checkpoints_id: int | None


class FrameIn(Schema):
    """A frame: CRS, cell size, and the area in CRS units."""

    crs: str = Field(max_length=4000)
    cell_size: float = Field(gt=0)
    west: float
    south: float
    east: float
    north: float
    unit: Literal["m", "ft", "us-ft"] = "m"
    vertical_datum: str = Field("", max_length=120)


class ProjectIn(Schema):
    """What a new project needs."""

    name: str = Field(min_length=1, max_length=120)
    frame: FrameIn


class MemberOut(Schema):
    """A person and their role."""

    name: str
    role: Role


class MemberIn(Schema):
    """Give the person of that user name a role."""

    name: str
    role: Role


def frame_from(body: FrameIn) -> Frame:
    """A checked frame. Raises GridError with a sentence where it is impossible."""
    crs = crs_name(parse_crs(body.crs))
    grid = Grid.covering(crs, Bounds(body.west, body.south, body.east, body.north), body.cell_size)
    return Frame(grid, body.unit, body.vertical_datum)


def project_out(member: Membership) -> dict[str, Any]:
    """A project as `ProjectOut` has it."""
    project, frame = member.project, member.project.frame
    return {
        "id": project.pk,
        "name": project.name,
        "role": member.role,
        "frame": {
            **project.frame_data,
            "crs_title": parse_crs(frame.grid.crs).name,
            "cell_size": frame.cell_size,
            "metres_per_unit": frame.grid.metres_per_unit(),
            "mark": f"{zlib.crc32(repr(frame).encode()):08x}",
        },
        "checkpoints_id": project.checkpoints_id,
    }


@router.get("", response=list[ProjectOut])
def list_projects(request: HttpRequest) -> list[dict[str, Any]]:
    """The projects the signed-in person is a member of, newest first."""
    members = Membership.objects.filter(user=person(request)).select_related("project").order_by("-project_id")
    return [project_out(member) for member in members]


@router.post("", response={201: ProjectOut, 422: Failure})
def create_project(request: HttpRequest, body: ProjectIn) -> tuple[int, dict[str, Any]]:
    """Make a project and become its owner."""
    frame = frame_from(body.frame)
    with transaction.atomic():
        project = Project.objects.create(name=body.name.strip(), frame_data=frame.to_dict())
        member = Membership.objects.create(project=project, user=person(request), role=Membership.Role.OWNER)
    return 201, project_out(member)


@router.get("/{int:project_id}", response=ProjectOut)
def get_project(request: HttpRequest, project_id: int) -> dict[str, Any]:
    """One project."""
    return project_out(membership(request, project_id))


@router.put("/{int:project_id}/frame", response={200: ProjectOut, 409: Failure, 422: Failure})
def set_frame(request: HttpRequest, project_id: int, body: FrameIn) -> dict[str, Any]:
    """Change the frame. Refused once something was made on it: those holdings would no longer fit."""
    member = membership(request, project_id, Membership.Role.OWNER)
    with transaction.atomic():
        Project.objects.select_for_update().get(pk=project_id)  # no job is asked for meanwhile, see `queue.submit`
        objection = objection_to_another_frame(member.project)
        if objection:
            raise HttpError(409, objection)
        before = member.project.frame
        member.project.frame_data = frame_from(body).to_dict()
        member.project.save(update_fields=["frame_data"])
    tell_frame_changed(member.project, before, person(request).pk)
    return project_out(member)


@router.get("/{int:project_id}/members", response=list[MemberOut])
def list_members(request: HttpRequest, project_id: int) -> list[dict[str, str]]:
    """Who works here."""
    project = open_project(request, project_id)
    found = Membership.objects.filter(project=project).select_related("user").order_by("user__username")
    return [{"name": member.user.get_username(), "role": member.role} for member in found]


def _keep_an_owner(project: Project, without: User) -> None:
    """Raise where `without` is the last owner. Owners are locked, so that two of them cannot both step down."""
    owners = Membership.objects.select_for_update().filter(project=project, role=Membership.Role.OWNER)
    if not [member for member in owners if member.user_id != without.pk]:
        raise HttpError(409, "A project needs an owner. Make somebody else an owner first.")


@router.put("/{int:project_id}/members", response={200: list[MemberOut], 404: Failure, 409: Failure})
def set_member(request: HttpRequest, project_id: int, body: MemberIn) -> list[dict[str, str]]:
    """Give somebody a role, or change it."""
    project = open_project(request, project_id, Membership.Role.OWNER)
    user = User.objects.filter(username=body.name).first()
    if user is None:
        raise HttpError(404, f"There is nobody with the user name {body.name!r}.")
    with transaction.atomic():
        if body.role != "owner":
            _keep_an_owner(project, without=user)
        Membership.objects.update_or_create(project=project, user=user, defaults={"role": body.role})
    return list_members(request, project_id)


@router.delete("/{int:project_id}/members/{name}", response={204: None, 409: Failure})
def remove_member(request: HttpRequest, project_id: int, name: str) -> tuple[int, None]:
    """Take somebody out of the project."""
    project = open_project(request, project_id, Membership.Role.OWNER)
    member = get_object_or_404(Membership, project=project, user__username=name)
    with transaction.atomic():
        _keep_an_owner(project, without=member.user)
        member.delete()
    return 204, None


@router.get("/{int:project_id}/desk", response=dict[str, Any])
def get_desk(request: HttpRequest, project_id: int) -> dict[str, Any]:
    """What the desk remembers for the signed-in person in this project."""
    kept: dict[str, Any] = membership(request, project_id).desk
    return kept


@router.put("/{int:project_id}/desk", response={204: None, 422: Failure})
def set_desk(request: HttpRequest, project_id: int, body: Body[dict[str, Any]]) -> tuple[int, None]:
    """Remember the desk's state."""
    member = membership(request, project_id)
    if len(json.dumps(body)) > _DESK_LIMIT:
        raise HttpError(422, "The desk's state is larger than 256 kB and was not kept.")
    member.desk = body
    member.save(update_fields=["desk"])
    return 204, None
