"""Which scan and model files are read, by their suffix."""

__all__ = ["CLOUD_SUFFIXES", "MESH_SUFFIXES", "MODEL_SUFFIXES", "TEXT_SUFFIXES"]

MESH_SUFFIXES = (".stl", ".ply", ".obj", ".off", ".3mf", ".glb")
TEXT_SUFFIXES = (".xyz", ".pts", ".asc")
MODEL_SUFFIXES = (".step", ".stp", ".iges", ".igs", ".brep")
CLOUD_SUFFIXES = (".ply", *TEXT_SUFFIXES, ".e57")
