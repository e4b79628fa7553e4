"""Shipping: files copied byte for byte into a depot, each whole and once."""

from splarn.core.ship.depot import Depot, Stored
from splarn.core.ship.gone import Gone
from splarn.core.ship.record import Sent, ShipRecord, Turn
from splarn.core.ship.shipper import ShipRequest, ship
from splarn.core.source.retry import Unready

__all__ = [
    "Depot",
    "Gone",
    "Sent",
    "ShipRecord",
    "ShipRequest",
    "Stored",
    "Turn",
    "Unready",
    "ship",
]
