"""The kinds of holding: one module each, and the one list of them."""

from __future__ import annotations

from yama.service.holdings.kinds.cloud import CloudHolding
from yama.service.holdings.kinds.features import FeaturesHolding
from yama.service.holdings.kinds.image import ImageHolding
from yama.service.holdings.kinds.kind import HoldingKind
from yama.service.holdings.kinds.picture import PictureHolding
from yama.service.holdings.kinds.points import PointsHolding
from yama.service.holdings.kinds.surface import SurfaceHolding
from yama.service.holdings.kinds.table import TableHolding
from yama.service.holdings.models import Holding

SURFACE, POINTS, FEATURES, CLOUD, IMAGE, PICTURE, TABLE = (
    SurfaceHolding(), PointsHolding(), FeaturesHolding(), CloudHolding(), ImageHolding(), PictureHolding(),
    TableHolding(),
)  # fmt: skip
HOLDING_KINDS: dict[str, HoldingKind] = {
    one.name: one for one in (SURFACE, POINTS, FEATURES, CLOUD, IMAGE, PICTURE, TABLE)
}


def kind_of(holding: Holding) -> HoldingKind:
    """The kind of a holding."""
    return HOLDING_KINDS[holding.kind]
