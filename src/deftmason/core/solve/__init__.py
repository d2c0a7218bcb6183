"""All chosen numbers of a model moved together against the whole scan."""

from .whole import Solved, SolvedValue, solve_whole

__all__ = ["Solved", "SolvedValue", "solve_whole"]
