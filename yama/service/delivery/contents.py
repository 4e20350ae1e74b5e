"""What a package holds: which file of which holding, what speaks against it, and what its report says."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from yama.service.holdings.kinds import CLOUD, IMAGE, SURFACE, kind_of
from yama.service.holdings.models import Holding
from yama.service.holdings.recipes import recipe_of
from yama.service.holdings.steps import quantity_of
from yama.service.judging.against import Against, MadeFrom, found, judged_of, shifts_of
from yama.service.judging.briefs import Asked, figure_of
from yama.service.projects.models import Project
from yama.service.surfaces import keys
from yama.terrain import operations
from yama.terrain.cog import FLOATS, Encoding
from yama.terrain.deliver import maps, report
from yama.terrain.deliver.package import safe_name
from yama.terrain.deliver.pieces import pieces
from yama.terrain.deliver.scored import ScoredCard, lying, scored
from yama.terrain.errors import InputError
from yama.terrain.findings import Finding
from yama.terrain.formats.cell_types import encoding_for
from yama.terrain.grid import Grid
from yama.terrain.judge.scorecard import Subject
from yama.terrain.quantities import QUANTITIES
from yama.terrain.ramps import PATCHES
from yama.terrain.recipe import Step
from yama.terrain.relief.dress import Dress
from yama.terrain.surface import Statistics
from yama.terrain.units import UNITS

_TEXT = {"asc": 10, "xyz": 28}  # bytes a cell, about
_BULKY = 2_000_000_000


@dataclass(frozen=True)
class Wanted:
    """How a package is asked for; as `PackageIn` has it."""

    surfaces_as: str
    cell_type: Any
    step: float
    nan: bool
    features_as: str
    points_as: str
    cut: int
    pictures: bool
    classes: list[int] | None = None

    @property
    def suffixes(self) -> dict[str, str]:
        """By kind of holding. Clouds are written as they were taken in; images leave as they came."""
        return {"surface": f".{self.surfaces_as}", "features": f".{self.features_as}", "points": f".{self.points_as}",
                "cloud": ".laz", "table": ".csv"}  # fmt: skip


def file_names(holdings: list[Holding], wanted: Wanted) -> dict[int, str]:
    """A name for the file of each holding, in folders by kind."""
    taken: set[str] = set()
    names = {}
    for one in holdings:
        kind = kind_of(one)
        if kind is IMAGE:
            stem, dot, suffix = one.original.rpartition(".")
            names[one.pk] = f"{kind.folder}/{safe_name(stem or one.name, dot + suffix if stem else '', taken)}"
        else:
            names[one.pk] = f"{kind.folder}/{safe_name(one.name, wanted.suffixes[kind.name], taken)}"
    return names


def statistics_of(holding: Holding) -> Statistics:
    """Of a surface, as they were found when it was made."""
    return Statistics(**holding.facts["statistics"])


def encoding_of(holding: Holding, wanted: Wanted) -> tuple[Encoding, list[Finding]]:
    """How a surface's cells are written, and what that loses. Only GeoTIFF knows more than text."""
    if wanted.surfaces_as != "tif":
        return FLOATS, []
    if wanted.cell_type == "stored":
        return Encoding(**holding.facts["encoding"]) if "encoding" in holding.facts else FLOATS, []
    unit = QUANTITIES[quantity_of(holding)].unit_in(holding.facts["unit"])
    return encoding_for(statistics_of(holding), wanted.cell_type, wanted.step, wanted.nan, unit)


def about(holding: Holding, wanted: Wanted, project: Project) -> list[Finding]:
    """What one should know before one gives a holding away."""
    found: list[Finding] = []
    name = holding.name
    own = [
        Finding(f"own-{one['code']}", "caution", f"{name}: {one['sentence']}", one["why"])
        for one in holding.facts.get("findings", [])
        if one["weight"] == "caution"
    ]
    if kind_of(holding) is CLOUD:
        return [*_kept(holding, wanted), *own]
    if kind_of(holding) is not SURFACE:
        return own
    found += [
        Finding(one.code, one.weight, f"{name}: {one.sentence}", one.why, one.fix)
        for one in encoding_of(holding, wanted)[1]
    ]
    facts, grid = holding.facts, Grid.from_dict(holding.facts["grid"])
    if wanted.surfaces_as in _TEXT and grid.cell_count * _TEXT[wanted.surfaces_as] > _BULKY:
        size = grid.cell_count * _TEXT[wanted.surfaces_as] / 1e9
        found.append(Finding("bulky", "caution", f"{name} as text takes about {size:.0f} thousand million bytes.",
                             "A GeoTIFF of it is a tenth of that."))  # fmt: skip
    if wanted.cut and wanted.surfaces_as == "tif":
        try:
            pieces(grid, wanted.cut)
        except InputError as error:
            found.append(Finding("cut", "stop", f"{name}: {error}"))
    holes = facts.get("holes") or {}
    if holes.get("count"):
        many = "1 hole" if holes["count"] == 1 else f"{holes['count']} holes"
        found.append(Finding("holes", "caution", f"{name} has {many}.",
                             "Who works with it must fill them or work around them. Join fills holes."))  # fmt: skip
    height = kind_of(holding).is_judgeable(holding)
    if height and not facts["vertical_datum"]:
        found.append(Finding("datum", "caution", f"What zero means is not known of {name}.",
                             "Declare it in Gather, or in Fit under Units and zero."))  # fmt: skip
    if height and facts["unit"] != project.frame.unit:
        found.append(Finding("unit", "caution", f"{name} is in {facts['unit']}, the frame in {project.frame.unit}.",
                             "Who uses both may take one for the other."))  # fmt: skip
    if height:
        found += Asked(holding, wanted.surfaces_as).findings()
    if grid.crs != project.frame.grid.crs:
        found.append(
            Finding("crs", "note", f"{name} is in {grid.crs}, not the frame's CRS.", "It is written as it is.")
        )
    return [*found, *own]


def _kept(holding: Holding, wanted: Wanted) -> list[Finding]:
    """How many of a cloud's points have a class that is kept."""
    if wanted.classes is None:
        return []
    there = {int(code): count for code, count in holding.facts["classes"].items()}
    kept = sum(there.get(code, 0) for code in set(wanted.classes))
    if kept == sum(there.values()):
        return []
    if not kept:
        return [Finding("classes", "stop", f"{holding.name} has no point of a class that is kept.",
                        "Keep more classes, or leave it out.")]  # fmt: skip
    return [Finding("classes", "note", f"{holding.name}: {report.number(kept, 0)} of {report.number(sum(there.values()), 0)} points "
                    "are kept, those of the chosen classes.")]  # fmt: skip


def together(holdings: list[Holding], project: Project) -> list[Finding]:
    """What one should know of all of them as one package."""
    heights = [one for one in holdings if kind_of(one).is_judgeable(one)]
    found = []
    data = {one.facts["vertical_datum"] for one in heights} - {""}
    if len(data) > 1:
        found.append(Finding("data", "caution", f"Zero means different things: {', '.join(sorted(data))}.",
                             "Say so to whoever gets the package, or move them to one."))  # fmt: skip
    if heights and project.checkpoints is None:
        found.append(
            Finding("checkpoints", "note", "The project has no checkpoints.", "The report says nothing of accuracy.")
        )
    return found


def by_product(holdings: list[Holding]) -> list[tuple[str, list[Holding]]]:
    """Holdings in their order, tiles of one product together under its name, each other one alone under its own."""
    groups: dict[str, list[Holding]] = {}
    for one in holdings:
        tile = one.origin.get("tile")
        groups.setdefault(one.name.split(f" {tile}")[0] if tile else f"\0{one.pk}", []).append(one)
    return [(name if not name.startswith("\0") else found[0].name, found) for name, found in groups.items()]


def source_of(name: str, tiles: list[Holding]) -> tuple[str, str, str]:
    """Name, kind and what is known of a file, or of the tiles of a product."""
    first = tiles[0]
    said = [str(first.origin[key]) for key in ("depot", "product", "zip") if first.origin.get(key)]
    if len(tiles) == 1:
        said = [first.original, *said] if first.original else said
    else:
        said.append(f"{len(tiles)} tiles: " + ", ".join(sorted(str(one.origin["tile"]) for one in tiles)))
    if first.origin.get("year"):
        said.append(f"of {first.origin['year']}")
    if first.origin.get("licence"):
        said.append(f"licence: {first.origin['licence']}")
    since = min(one.created_at for one in tiles)
    return name, str(first.get_kind_display()).lower(), ", ".join([*said, f"here since {since:%-d %B %Y}"])


def _values(step: Step, by_key: dict[str, Holding]) -> str:
    operation = operations.find(step.operation)
    told = operations.parse_params(operation, operation.upgraded(step.params)[0]).in_words()
    keys = [key for given in step.inputs.values() for key in given]
    names = [
        one[0].name if len(one) == 1 else f"{product} ({len(one)} tiles)"
        for product, one in by_product([by_key[key] for key in keys if key in by_key])
    ]
    used = ", ".join(names[:8]) + (f" and {len(names) - 8} more" if len(names) > 8 else "")
    return f"from {used}" + (f"; {', '.join(told)}" if told else "")


@dataclass(frozen=True)
class Lineage:
    """How a holding was made. steps: with what each made, the first ones first. files: keys of those that they began
    with."""

    steps: list[tuple[Holding, Step]]
    files: set[str]

    def lines(self, by_key: dict[str, Holding]) -> list[str]:
        """One for each step."""
        return [
            f"{held.name}: {operations.find(step.operation).title.lower()}, {_values(step, by_key)}."
            for held, step in self.steps
        ]

    def told(self) -> list[report.Told]:
        """Tables of what steps did, where a report tells that of them."""
        found = []
        for held, step in self.steps:
            try:
                tables = keys.told_of(held.project_id, step)
            except InputError as error:
                found.append(report.Told(f"{held.name}: what was done to it cannot be told. {error}"))
                continue
            several = len(self.steps) > 1
            found += [report.Told(f"{title}: {held.name}" if several else title, table) for title, table in tables]
        return found


def lineage(holding: Holding, by_key: dict[str, Holding]) -> Lineage:
    """The steps that made a holding, and the files they began with."""
    found = Lineage([], set())
    seen: set[str] = set()

    def follow(key: str) -> None:
        held = by_key.get(key)
        if key in seen or held is None:
            return
        seen.add(key)
        step = held.step
        if step is None:
            found.files.add(key)
            return
        for given in step.inputs.values():
            for one in given:
                follow(one)
        found.steps.append((held, step))

    follow(holding.key)
    return found


def sheet_of(
    holding: Holding,
    file: str,
    project: Project,
    by_key: dict[str, Holding],
    found: list[Finding],
    wanted: Wanted,
    dress: Dress | None = None,
) -> report.Sheet:
    """What the report says of a surface. dress: of its map; the usual one where None."""
    facts, surface = holding.facts, keys.surface_of_holding(holding)
    quantity = quantity_of(holding)
    numbers, grid = statistics_of(holding), Grid.from_dict(facts["grid"])
    told = QUANTITIES[quantity]
    unit = told.unit_in(facts["unit"])
    card = holding.scorecards.filter(checkpoints_id=project.checkpoints_id).first() if project.checkpoints_id else None
    share = numbers.empty / max(numbers.cells, 1)
    rows = [
        ("Cells say", told.title),
        ("CRS", grid.crs),
        ("Cell", f"{grid.cell_width:g} × {grid.cell_height:g} {'°' if abs(grid.west) <= 360 else 'm'}, "
                 f"{report.number(grid.cols, 0)} × {report.number(grid.rows, 0)} cells"),
        ("Area", report.area_of(grid.bounds, 5 if abs(grid.west) <= 360 else 0)),
        ("Range", f"{report.number(numbers.lowest)} to {report.number(numbers.highest)} {unit}, "
                  f"mean {report.number(numbers.mean)} {unit}"),
        ("Empty", f"{share:.1%} of the cells" if numbers.empty else "no cell"),
    ]  # fmt: skip
    if quantity == "height":
        rows.append(("Zero", facts["vertical_datum"] or "not known"))
    figures = card.figures if card else None
    made = lineage(holding, by_key)
    reason = card.reason if card else "Not judged: the project has no checkpoints, or this is not a surface of heights."
    brief, statement = _brief(holding, wanted)
    return report.Sheet(
        name=holding.name,
        file=file,
        facts=rows,
        map=maps.draw_map(surface, project.frame.grid, quantity, dress),
        accuracy=figures,
        unjudged=reason,
        lineage=made.lines(by_key),
        findings=found,
        unit=project.frame.unit,
        key_unit=told.unit_in(project.frame.unit if dress and facts["unit"] in UNITS else facts["unit"]),
        cells=told.title.capitalize(),
        told=made.told(),
        brief=brief,
        statement=statement,
        patches=_sources_shown(holding, by_key) if told.categorical else [],
    )


def _sources_shown(holding: Holding, by_key: dict[str, Holding]) -> list[tuple[str, str]]:
    """Colour and name of each source, of a surface whose cells say where they came from."""
    step = holding.step
    while step is not None and "surfaces" not in step.inputs:  # clipped or brought to other cells since
        given = next((by_key[key] for keys in step.inputs.values() for key in keys if key in by_key), None)
        step = given.step if given is not None else None
    if step is None:
        return []
    tiles: dict[int, list[Holding]] = {}
    numbers = step.params.get("groups") or range(len(step.inputs["surfaces"]))
    for number, key in zip(numbers, step.inputs["surfaces"], strict=False):
        if key in by_key:
            tiles.setdefault(number, []).append(by_key[key])
    return [(PATCHES[min(number, len(PATCHES) - 1)], by_product(held)[0][0]) for number, held in sorted(tiles.items())]


def area_of(project: Project, holdings: list[Holding], looks: dict[str, Dress]) -> maps.AreaMap:
    """The frame with all surfaces that are handed over, on the first one of heights."""
    frame = project.frame.grid
    surfaces = [(one, keys.surface_of_holding(one)) for one in holdings if kind_of(one) is SURFACE]
    named = [(one.name, surface) for one, surface in surfaces]
    of_heights = [surface for one, surface in surfaces if quantity_of(one) == "height"]
    if not of_heights:
        return maps.draw_area(frame, named, None)
    return maps.draw_area(frame, named, (of_heights[0], looks.get("height") or Dress.usual("height")))


def _brief(holding: Holding, wanted: Wanted) -> tuple[list[report.Met], list[str]]:
    """What the report says of the brief and of accuracy."""
    if not kind_of(holding).is_judgeable(holding):
        return [], []
    asked = Asked(holding, wanted.surfaces_as)
    rows = [
        report.Met(demand.title(asked.names), told.met, figure_of(told), told.told)
        for demand, told in zip(asked.brief.demands, asked.answers(), strict=True)
        if told is not None
    ]
    return rows, asked.statement()


def card_of(project: Project, handed_over: list[Holding]) -> ScoredCard | None:
    """How the surfaces of a project do at its checkpoints, as far as they were judged there."""
    if project.checkpoints is None:
        return None
    against = Against(project, project.checkpoints, None)
    surfaces = [one for one in project.holdings.order_by("pk") if kind_of(one).is_judgeable(one)]
    told = found(against, surfaces)
    made_from = MadeFrom(project, against.places())
    judged = [(one, judged_of(told[one.pk])) for one in surfaces if one.pk in told]
    known = [(one, errors) for one, errors in judged if errors is not None]
    inside = {one.pk for one in handed_over}
    subjects = [Subject(one.name, errors, made_from.among(one)) for one, errors in known]
    lie = [lying(one.name, onto, moved) for one, onto, moved in shifts_of(against, surfaces)]
    return scored(subjects, against.places(), [one.pk in inside for one, _ in known], project.frame.unit, lie)


def recipes(holdings: list[Holding]) -> dict[int, dict[str, Any]]:
    """The recipe of each holding that was made here."""
    return {one.pk: recipe_of(one) for one in holdings if one.step is not None}
