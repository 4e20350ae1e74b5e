"""What a worker does for an order: fetch a file with patience, check it, take it in; and fetch map features."""

from __future__ import annotations

import json
import time
from datetime import timedelta

from django.utils import timezone

from yama.service.arrivals.taking_in import take_in
from yama.service.depots import client
from yama.service.depots.models import Part
from yama.service.holdings.deleted import find_again
from yama.service.holdings.models import upload_path, working_folder
from yama.service.jobs.models import Job
from yama.service.jobs.outcome import LaterError, Outcome
from yama.terrain.errors import InputError
from yama.terrain.files import put_in_place
from yama.terrain.formats.declared import Declared
from yama.terrain.progress import Progress
from yama.terrain.recipe import file_key

_NOTED_SECONDS = 0.4
_MOST_FEATURES = 200_000


def fetch_part(job: Job, progress: Progress) -> Outcome:
    """Bring one file of an order in. A provider that is down, breaks off or delivers damage is asked again later; what
    came so far is kept for that."""
    part = Part.objects.select_related("order").get(pk=job.request["part"])
    if part.holding_id is not None:
        return Outcome(part.holding_id)
    provider = client.providers()[part.order.depot]
    session = client.Session(provider)
    noted = 0.0

    def note(have: int) -> None:
        nonlocal noted
        progress(0.7 * have / part.size if part.size else 0.3)
        if time.monotonic() - noted > _NOTED_SECONDS:
            noted = time.monotonic()
            Part.objects.filter(pk=part.pk).update(received=have)

    try:
        if part.order.kind == "cut_out":
            _wait_until_made(part, session, progress)
        _say(part, Part.State.ARRIVING, part.note)
        client.download(session, part.href, part.part_path, part.size, part.sha256, note)
    except client.DamagedError as error:
        part.tries += 1
        _again(part, f"Damaged: {error}", 0.5 * 2**part.tries)
    except client.DepotDownError as error:
        _again(part, str(error), error.seconds, counted=False)
    except client.DepotError as error:
        raise InputError(f"{part.name} could not be fetched. {error}") from error
    Part.objects.filter(pk=part.pk).update(received=part.part_path.stat().st_size)
    _say(part, Part.State.TAKING_IN)
    outcome = _take_in(job, part, lambda share: progress(0.7 + 0.3 * share))
    Part.objects.filter(pk=part.pk).update(state=Part.State.RECEIVED, holding_id=outcome.holding_id, note="")
    return outcome


def _say(part: Part, state: str, note: str = "") -> None:
    part.state, part.note = state, note
    Part.objects.filter(pk=part.pk).update(state=state, note=note, try_at=None)


def _again(part: Part, note: str, seconds: float, counted: bool = True) -> None:
    """Leave the job for later. Raises InputError where it was damaged too often."""
    if counted and part.tries >= Part.MAX_TRIES:
        raise InputError(f"{part.name} arrived damaged {part.tries} times. {note} Order it again later.")
    Part.objects.filter(pk=part.pk).update(
        state=Part.State.WAITING, note=note, tries=part.tries, received=0 if counted else part.received,
        try_at=timezone.now() + timedelta(seconds=seconds),
    )  # fmt: skip
    raise LaterError(seconds)


def _wait_until_made(part: Part, session: client.Session, progress: Progress) -> None:
    """Order the cut-out where that was not done, and look whether it is made."""
    request = part.order.request
    if not part.link:
        part.link = client.order_cut_out(session.provider, request["bounds"], request["cell_size"])
        Part.objects.filter(pk=part.pk).update(link=part.link)
    progress(0.05)
    info = session.json("GET", part.link)
    if info.get("status") == "failed":
        raise client.DepotError(f"{session.provider.title} could not make it: {info.get('message', '')}")
    if info.get("status") != "successful":
        _say(part, Part.State.MAKING)
        raise LaterError(1.0)
    part.href = f"{part.link}/results"
    Part.objects.filter(pk=part.pk).update(href=part.href)


def _take_in(job: Job, part: Part, progress: Progress) -> Outcome:
    """Take in what arrived, as an upload would be."""
    order = part.order
    file = file_key(part.part_path)
    declared = Declared(vertical_datum=order.request.get("datum", "")[:120])  # the files do not say it
    key = declared.key(file)
    existing = find_again(job.project_id, key)
    put_in_place(part.part_path, upload_path(job.project_id, file))
    if existing is not None:
        return Outcome(existing.pk)
    job.key = key
    job.request = {
        **job.request, "name": f"{part.name}.tif", "file_key": file, "declared": declared.to_dict(),
        "title": f"{order.title} {part.name}",
        "origin": {"depot": order.depot, "product": order.product, "tile": part.name, "order": order.pk,
                   **{name: order.request[name] for name in ("year", "licence") if order.request.get(name)}},
    }  # fmt: skip
    return take_in(job, progress)


def _each(name: str, values: list[str]) -> list[dict[str, str]]:
    """A filter for each value; one that lets everything through where there are none."""
    return [{name: value} for value in values] or [{}]


def fetch_features(job: Job, progress: Progress) -> Outcome:
    """Fetch map features of a collection, as asked, and hold them as a GeoJSON file that might have been uploaded."""
    request = job.request
    found = []
    kinds, names = request["kinds"], request["names"]
    # the standard's filters know one value of a property each, so every pair of a kind and a name is asked for
    asked = [{**kind, **name} for kind in _each("kind", kinds) for name in _each("name", names)]
    try:
        for number, filters in enumerate(asked):

            def told(count: int, done: int = number) -> None:
                progress(0.5 * (done + min(1.0, count / 5000)) / len(asked))

            for feature in client.features(request["collection"], request["bbox"], filters, told):
                found.append(feature)
                if len(found) > _MOST_FEATURES:
                    raise InputError(
                        f"There are more than {_MOST_FEATURES} such features. Choose a smaller area or one kind."
                    )
    except client.DepotDownError as error:
        raise LaterError(error.seconds) from error
    except client.DepotError as error:
        raise InputError(f"The features could not be fetched. {error}") from error
    if not found:
        raise InputError("Waymark has no such features here. Choose a larger area or another kind.")
    text = json.dumps({"type": "FeatureCollection", "features": found}, sort_keys=True)
    with working_folder(job.project_id) as folder:
        path = folder / "features.geojson"
        path.write_text(text, encoding="utf-8")
        key = file_key(path)
        existing = find_again(job.project_id, key)
        if existing is not None:
            return Outcome(existing.pk)
        put_in_place(path, upload_path(job.project_id, key))
    job.key = key
    asked_for = {name: ", ".join(values) for name, values in (("kind", kinds), ("name", names)) if values}
    job.request = {
        **request, "name": f"waymark_{request['collection']}.geojson", "file_key": key, "title": request["title"],
        "origin": {"depot": "waymark", "collection": request["collection"], **asked_for},
    }  # fmt: skip
    return take_in(job, progress)
