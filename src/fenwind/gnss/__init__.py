"""Satellites: orbits, what is seen of them, dilution of precision."""
