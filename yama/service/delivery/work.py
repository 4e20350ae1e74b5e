"""Building a package: every file written, the report drawn, all of it in one zip."""

from __future__ import annotations

import json
import shutil
import tempfile
from pathlib import Path
from typing import Any

import numpy as np
from django.conf import settings
from django.utils import timezone

from yama.service.delivery import contents, water
from yama.service.delivery.contents import Wanted
from yama.service.holdings.kinds import CLOUD, IMAGE, SURFACE, kind_of
from yama.service.holdings.models import Holding, project_dir
from yama.service.holdings.steps import quantity_of
from yama.service.jobs.models import Job
from yama.service.jobs.outcome import Outcome
from yama.service.judging.briefs import Asked
from yama.service.projects.models import Project
from yama.service.surfaces import keys
from yama.service.surfaces.dressed import DressIn
from yama.terrain import kinds
from yama.terrain.deliver import report
from yama.terrain.deliver.package import Member, pack, safe_name
from yama.terrain.deliver.pieces import store_pieces, write_picture
from yama.terrain.errors import InputError
from yama.terrain.findings import Finding
from yama.terrain.formats import las
from yama.terrain.progress import Progress, part_of
from yama.terrain.relief.dress import Dress
from yama.terrain.surface import Surface, refused_by_disk, store


def package_path(job: Job) -> Path:
    """Where the package of a job lies."""
    folder = project_dir(job.project_id) / "packages"
    folder.mkdir(exist_ok=True)
    return folder / f"{job.pk}.zip"


def _write(holding: Holding, path: Path, wanted: Wanted, dress: Dress | None, progress: Progress) -> list[Path]:
    """Write what is held, and return the files that came of it."""
    kind = kind_of(holding)
    if kind is SURFACE:
        surface: Surface = keys.surface_of_holding(holding)
        share = 0.8 if wanted.pictures else 1.0
        files = _write_surface(holding, surface, path, wanted, lambda part: progress(share * part))
        if wanted.pictures:
            folder = path.parent.parent / "pictures"
            folder.mkdir(exist_ok=True)
            dress = dress or Dress.usual(quantity_of(holding))
            files += write_picture(
                surface, folder / f"{path.stem}.png", dress, lambda part: progress(share + (1 - share) * part)
            )
        return files
    if kind is CLOUD:
        classes = wanted.classes
        keep = None if classes is None else lambda chunk: np.isin(np.asarray(chunk.classification), classes)
        las.write(CLOUD.load(holding), path, keep, progress)
    else:
        kinds.write(kind.load(holding), path, progress)
    return _with_beside(path)


def _with_beside(path: Path) -> list[Path]:
    """A file and those of its name: a shapefile is several, and an ASCII grid has its CRS in another."""
    return [path, *sorted(one for one in path.parent.iterdir() if one.stem == path.stem and one != path)]


def _write_surface(holding: Holding, surface: Surface, path: Path, wanted: Wanted, progress: Progress) -> list[Path]:
    if wanted.surfaces_as != "tif":
        kinds.write(surface, path, progress)
        return _with_beside(path)
    encoding, _ = contents.encoding_of(holding, wanted)
    tags = {"RECIPE": holding.key} if holding.step else {}
    if wanted.cut:
        return list(store_pieces(surface, path, wanted.cut, progress, tags, encoding))
    store(surface, path, progress, tags=tags, encoding=encoding, given_away=True)
    return [path]


def build(job: Job, progress: Progress) -> Outcome:
    """Write the package a job asks for. It makes `file` (a name for people), `bytes` and the list of members."""
    request = job.request
    project = Project.objects.select_related("checkpoints").get(pk=job.project_id)
    wanted = Wanted(**request["wanted"])
    by_pk = project.holdings.in_bulk(request["holdings"])
    by = job.created_by
    author = (by.get_full_name() or by.get_username()) if by else ""
    missing = len(request["holdings"]) - len(by_pk)
    if missing:
        raise InputError(f"{missing} of the chosen things are no longer in the project. Choose again.")
    holdings = [by_pk[number] for number in request["holdings"]]
    names = contents.file_names(holdings, wanted)
    judged = [one for one in holdings if kind_of(one).is_judgeable(one)]
    for done, one in enumerate(judged):  # what is handed over is held against the brief
        Asked(one).work_out(part_of(progress, 0.1 * done / len(judged), 0.1 * (done + 1) / len(judged)))
    findings = {one.pk: contents.about(one, wanted, project) for one in holdings}
    all_told = [*contents.together(holdings, project), *(one for found in findings.values() for one in found)]
    for finding in all_told:
        if finding.weight == "stop":
            raise InputError(f"{finding.sentence} {finding.why}".strip())
    unit = project.frame.unit
    looks = {quantity: DressIn(**look).dress(unit) for quantity, look in request.get("looks", {}).items()}
    path = package_path(job)
    share = 0.75 / len(holdings)
    with refused_by_disk(path), tempfile.TemporaryDirectory(dir=project_dir(project.pk), prefix="package-") as folder:
        members: list[Member] = []
        for done, one in enumerate(holdings):
            progress(0.1 + done * share)
            about = {"kind": one.kind, "holding": one.name, "key": one.key}
            if kind_of(one) is IMAGE:
                members.append(Member(names[one.pk], one.upload_path, about))
                continue
            file = Path(folder) / names[one.pk]
            file.parent.mkdir(exist_ok=True)
            dress = looks.get(quantity_of(one)) if kind_of(one) is SURFACE else None
            written = _write(one, file, wanted, dress, part_of(progress, 0.1 + done * share, 0.1 + (done + 1) * share))
            members += [Member(f"{each.parent.name}/{each.name}", each, about) for each in written]
        taken: set[str] = set()
        for pk, recipe in contents.recipes(holdings).items():
            name = safe_name(by_pk[pk].name, ".recipe.json", taken)
            text = json.dumps(recipe, indent=1, ensure_ascii=False).encode()
            members.append(Member(f"recipes/{name}", text, {"kind": "recipe", "holding": by_pk[pk].name}))
        if request["report"]:
            members += _report(
                request, project, author, holdings, names, findings, wanted, looks, part_of(progress, 0.85, 0.9)
            )
        progress(0.9)
        said_of_all: dict[str, Any] = {
            "name": request["name"], "project": project.name, "made": timezone.now().isoformat(timespec="seconds"),
            "note": request["note"], "frame": project.frame.to_dict(),
            "findings": [one.to_dict() for one in all_told],
        }  # fmt: skip
        said = pack(path, members, said_of_all, lambda part: progress(0.9 + 0.1 * part))
    file_name = safe_name(request["name"], ".zip", set())
    return Outcome(
        made={"file": file_name, "bytes": path.stat().st_size, "members": said["members"]}, findings=all_told
    )


def _report(
    request: dict[str, Any],
    project: Project,
    author: str,
    holdings: list[Holding],
    names: dict[int, str],
    findings: dict[int, list[Finding]],
    wanted: Wanted,
    looks: dict[str, Dress],
    progress: Progress,
) -> list[Member]:
    by_key = {one.key: one for one in project.holdings.all()}
    frame = project.frame
    made_of: set[str] = set()
    for one in holdings:
        made_of |= contents.lineage(one, by_key).files
    sources = sorted((by_key[key] for key in made_of), key=lambda one: one.name)
    sheets = [
        contents.sheet_of(one, names[one.pk], project, by_key, findings[one.pk], wanted, looks.get(quantity_of(one)))
        for one in holdings
        if kind_of(one) is SURFACE
    ]
    told = report.Report(
        title=request["name"],
        project=project.name,
        made=timezone.now().strftime("%-d %B %Y, %H:%M UTC"),
        note=request["note"],
        frame=[
            ("Frame", f"{frame.grid.crs}, cells of {frame.grid.cell_width:g} m, heights in {frame.unit}"),
            ("Area", report.area_of(frame.grid.bounds)),
            ("Zero of the frame", frame.vertical_datum or "not said"),
            ("Checkpoints", project.checkpoints.name if project.checkpoints else "none"),
        ],
        area=contents.area_of(project, holdings, looks),
        author=author,
        crs=frame.grid.crs,
        sheets=sheets,
        others=[(one.name, names[one.pk], kind_of(one).known(one)) for one in holdings if kind_of(one) is not SURFACE],
        water=water.made(holdings, by_key),
        networks=water.networks(project, progress),
        sources=[contents.source_of(name, tiles) for name, tiles in contents.by_product(sources)],
        findings=contents.together(holdings, project),
        card=contents.card_of(project, holdings),
        unit=frame.unit,
    )
    page = report.html_of(told, settings.REPORT_FONTS)
    return [
        Member("report.html", page.encode(), {"kind": "report"}),
        Member("report.pdf", report.pdf_of(page), {"kind": "report"}),
    ]


def forget(job: Job) -> None:
    """Delete the file of a package."""
    path = package_path(job)
    path.unlink(missing_ok=True)
    if not any(path.parent.iterdir()):
        shutil.rmtree(path.parent, ignore_errors=True)


def packages_of(project_id: int) -> set[Path]:
    """Where the packages of a project lie."""
    return {package_path(job) for job in Job.objects.filter(project_id=project_id, kind="package")}
