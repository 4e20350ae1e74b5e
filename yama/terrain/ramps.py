"""The colour ramps, defined once for the map, the key, the pictures and the exports."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

Stop = tuple[float, str]

PATCHES = (
    "#5E8C8A", "#B08D57", "#8A6FA8", "#7F8FA3", "#93A35C", "#B5705E", "#4E6E8E", "#C2A878",
    "#6B7F5A", "#A07A93", "#8C8472", "#587F6B",
)  # fmt: skip
"""Colours of things that are counted, not measured: the first thing has the first."""


def _patchwork() -> tuple[Stop, ...]:
    """Every colour over its share of the ramp, with a hard edge to the next."""
    ends = [i / len(PATCHES) for i in range(1, len(PATCHES))]
    starts = [0.0, *ends]
    ends = [*(end - 1e-4 for end in ends), 1.0]
    return tuple((at, colour) for i, colour in enumerate(PATCHES) for at in (starts[i], ends[i]))


RAMPS: dict[str, tuple[Stop, ...]] = {
    "Foreshore": (
        (0.0, "#17343D"), (0.14, "#2F5D5A"), (0.34, "#6E8B5B"), (0.54, "#B7B07A"),
        (0.70, "#C99F62"), (0.84, "#A9714F"), (1.0, "#E8E0D4"),
    ),
    "Slate": ((0.0, "#1D262B"), (0.25, "#545C60"), (0.5, "#8B9092"), (0.75, "#BFC0BC"), (1.0, "#F2EFE7")),
    "Kiln": ((0.0, "#22172E"), (0.25, "#6B2346"), (0.5, "#B6432E"), (0.75, "#E08A3C"), (1.0, "#F4E3B2")),
    "Seesaw": ((0.0, "#2D4690"), (0.25, "#8FA0C9"), (0.5, "#F4F0E6"), (0.75, "#DDA27C"), (1.0, "#B2461A")),
    "Patchwork": _patchwork(),
    "Steep": ((0.0, "#F4EFE2"), (1 / 3, "#D9B36A"), (2 / 3, "#A8662B"), (1.0, "#5B2A1C")),
}  # fmt: skip
"""Colours with their places from the lowest (0) to the highest value (1)."""


def colours(ramp: Sequence[Stop], shares: npt.NDArray[np.floating]) -> npt.NDArray[np.float32]:
    """Red, green, blue from 0 to 255 `(..., 3)` of shares 0 to 1 along a ramp; NaN stays NaN."""
    at = [place for place, _ in ramp]
    stops = np.array([[int(colour[i : i + 2], 16) for i in (1, 3, 5)] for _, colour in ramp], np.float32)
    return np.stack([np.interp(shares, at, stops[:, band]) for band in range(3)], -1).astype(np.float32)
