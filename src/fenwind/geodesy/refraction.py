"""What lines of sight bend by."""

from __future__ import annotations

#: Radius of the earth for curvature and refraction, metres (common practice, no source).
EARTH_RADIUS_M = 6_372_000.0
