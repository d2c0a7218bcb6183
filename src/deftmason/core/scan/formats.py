"""Which scan files are read, by their suffix."""

__all__ = ["CLOUD_SUFFIXES", "MESH_SUFFIXES", "TEXT_SUFFIXES"]

MESH_SUFFIXES = (".stl", ".ply", ".obj", ".off", ".3mf", ".glb")
TEXT_SUFFIXES = (".xyz", ".pts", ".asc")
CLOUD_SUFFIXES = (".ply", *TEXT_SUFFIXES, ".e57")
