"""What the cells of a surface can say: the one table of quantities, for the core, the service and the desk."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from yama.terrain.ramps import PATCHES

Quantity = Literal[
    "height", "difference", "slope", "aspect", "brightness", "spread", "count", "intensity", "distance", "source", "curvature",
    "openness", "contrast", "area", "categories", "grey", "likeness",
]  # fmt: skip


Stretch = Literal["whole", "middle", "given"]


@dataclass(frozen=True)
class Facts:
    """What is true of every surface of a quantity.

    Parameters
    ----------
    title : str
        Of its cells, in a sentence.
    unit : str, optional
        Of its cells; None where it is the surface's own unit of height.
    ramp : str
        The ramp of colours that it is drawn with unless another is chosen.
    span : tuple of float
        The range it is drawn over before any cell is known, or always where `stretch` is ``"given"``.
    stretch : {"whole", "middle", "given"}
        What it is drawn over: all of its range, nearly all of it, or `span`.
    lit : bool
        Whether it is drawn with relief.
    diverging : bool
        Whether its colours lie on both sides of 0.
    categorical : bool
        Whether cells are categories, of which no mean can be taken.
    """

    title: str
    unit: str | None
    ramp: str
    span: tuple[float, float]
    stretch: Stretch = "middle"
    lit: bool = False
    diverging: bool = False
    categorical: bool = False

    @property
    def is_of_heights(self) -> bool:
        """Whether cells are in a unit of height."""
        return self.unit is None

    def unit_in(self, height_unit: str) -> str:
        """What stands behind a value where heights are in `height_unit`."""
        return height_unit if self.unit is None else self.unit


_KINDS = len(PATCHES) + 0.5

QUANTITIES: dict[Quantity, Facts] = {
    "height": Facts("heights", None, "Foreshore", (0.0, 600.0), "whole", lit=True),
    "difference": Facts("differences", None, "Seesaw", (-10.0, 10.0), diverging=True),
    "slope": Facts("slope", "°", "Steep", (0.0, 45.0), "given"),
    "aspect": Facts("aspect", "°", "Kiln", (0.0, 360.0), "given"),
    "brightness": Facts("brightness", "", "Slate", (0.0, 1.0), "given"),
    "spread": Facts("spread", None, "Kiln", (0.0, 2.0)),
    "count": Facts("counts", "", "Kiln", (0.0, 20.0)),
    "intensity": Facts("intensity", "", "Slate", (0.0, 3000.0)),
    "distance": Facts("distance", "m", "Kiln", (0.0, 100.0)),
    "curvature": Facts("curvature", "1/km", "Seesaw", (-20.0, 20.0), diverging=True),
    "openness": Facts("openness", "°", "Slate", (70.0, 100.0)),
    "contrast": Facts("contrast", "SD", "Seesaw", (-2.0, 2.0), "given", diverging=True),
    "grey": Facts("grey values", "", "Slate", (0.0, 4095.0)),
    "likeness": Facts("likeness", "", "Kiln", (0.0, 1.0), "given"),
    "area": Facts("upslope area", "m²", "Kiln", (0.0, 1e6)),
    "source": Facts("source", "", "Patchwork", (0.5, _KINDS), "given", categorical=True),
    "categories": Facts("categories", "", "Patchwork", (0.5, _KINDS), "given", categorical=True),
}
