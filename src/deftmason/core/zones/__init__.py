"""The surfaces a mesh is made of: planes, cylinders, cones, spheres, rings and what is free."""

from .zones import FREE, Zone, Zones, read_zones

__all__ = ["FREE", "Zone", "Zones", "read_zones"]
