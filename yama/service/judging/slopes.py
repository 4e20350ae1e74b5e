"""How wrong surfaces are on slopes: curves of their error models, with what errors are seen to do."""

from __future__ import annotations

from typing import Any

import numpy as np
from django.http import HttpRequest
from ninja import Router, Schema

from yama.service.judging.asked import Asked, ScorecardIn
from yama.service.projects.access import open_project
from yama.service.schemas import Failure
from yama.terrain.errors import InputError
from yama.terrain.judge.doubts import SLOPES, curve, model_at, spreads_by_slope
from yama.terrain.judge.places import Judged
from yama.terrain.judge.splits import by_cover
from yama.terrain.units import UNITS

router = Router(tags=["judging"])


class CurveOut(Schema):
    """Standard deviations of errors at slopes, on one kind of ground, in the frame's unit. seen: what the errors
    themselves do: slope, standard deviation, count. bias: median error."""

    ground: str
    sigma: list[float]
    seen: list[tuple[float, float, int]]
    bias: float


class ModelOut(Schema):
    """The error model of a surface; a reason where there is none. curves: of all ground, then of each cover.
    within: share of the errors that its 90 % intervals hold."""

    id: int
    name: str
    reason: str
    curves: list[CurveOut]
    count: int
    within: float | None


class SlopesOut(Schema):
    """Error models of all surfaces of a scorecard. slopes: degrees of the curves' places."""

    slopes: list[float]
    models: list[ModelOut]


@router.post("/{int:project_id}/scorecard/slopes", response={200: SlopesOut, 422: Failure})
def read_slopes(request: HttpRequest, project_id: int, body: ScorecardIn) -> dict[str, Any]:
    """How wrong each surface of a scorecard is on slopes, as far as it was judged."""
    project = open_project(request, project_id)
    asked = Asked(project, body)
    unit = UNITS[project.frame.unit]
    covers = by_cover(asked.places.covers) if asked.places.covers.size else None
    told = []
    for (held, _), subject in zip(asked.judged, asked.subjects, strict=True):
        judged = Judged(subject.errors, subject.judged.rises)
        line: dict[str, Any] = {
            "id": held.pk,
            "name": held.name,
            "reason": "",
            "curves": [],
            "count": 0,
            "within": None,
        }
        told.append(line)
        try:
            whole = model_at(judged, None, ())
        except InputError as error:
            line["reason"] = str(error)
            continue
        line["count"], line["within"] = whole.count, whole.within

        def of(ground: str, model: Any, number: int, chosen: Any, judged: Judged = judged) -> dict[str, Any]:
            seen = [(slope, spread / unit, count) for slope, spread, count in spreads_by_slope(judged, chosen)]
            sigma = (curve(model, number) / unit).tolist()
            return {"ground": ground, "sigma": sigma, "seen": seen, "bias": float(model.bias[number]) / unit}

        line["curves"].append(of("all ground", whole, -1, None))
        if covers is not None:
            parts = model_at(judged, covers.of, covers.names)
            for number, name in enumerate(covers.names):
                chosen = covers.of == number
                if int((np.isfinite(judged.errors) & chosen).sum()) >= 10:
                    line["curves"].append(of(name, parts, number, chosen))
    return {"slopes": SLOPES.tolist(), "models": told}
