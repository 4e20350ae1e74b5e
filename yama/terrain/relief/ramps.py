"""The colour ramps, defined once for the map, the key, the pictures and the exports."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

RAMPS: dict[str, tuple[str, ...]] = {
    "Foreshore": ("#17343D", "#2F5D5A", "#6E8B5B", "#B7B07A", "#C99F62", "#A9714F", "#E8E0D4"),
    "Slate": ("#1D262B", "#545C60", "#8B9092", "#BFC0BC", "#F2EFE7"),
    "Kiln": ("#22172E", "#6B2346", "#B6432E", "#E08A3C", "#F4E3B2"),
    "Seesaw": ("#2D4690", "#8FA0C9", "#F4F0E6", "#DDA27C", "#B2461A"),
    "Steep": ("#F4EFE2", "#D9B36A", "#A8662B", "#5B2A1C"),
}
"""Colours from the lowest to the highest value, at equal steps."""


def colours(name: str, shares: npt.NDArray[np.floating]) -> npt.NDArray[np.float32]:
    """Red, green, blue from 0 to 255 `(..., 3)` of shares 0 to 1 along a ramp; NaN stays NaN."""
    stops = np.array([[int(colour[i : i + 2], 16) for i in (1, 3, 5)] for colour in RAMPS[name]], np.float32)
    at = np.linspace(0.0, 1.0, len(stops))
    return np.stack([np.interp(shares, at, stops[:, band]) for band in range(3)], -1).astype(np.float32)
