"""How fast the sketch is: a silhouette, the whole outline drawn by itself, one size changed. Aims are those of use."""

from tests.core.test_repeats import loop_of
from tests.core.test_sketch import plate
from tests.sprocket import Sprocket, sprocket_outline

from deftmason.core.scan.section import SectionPlane
from deftmason.core.sketch.automatic import automatic_sketch
from deftmason.core.sketch.board import Board
from deftmason.core.sketch.drawing import Size
from deftmason.core.sketch.settling import settled
from deftmason.core.sketch.silhouette import silhouette

UP = SectionPlane.at([0, 0, 0], [0, 0, 1], [1, 0, 0])
STEP = 0.35


def told(benchmark, what, aim):
    print(f"\n{what}: {benchmark.stats['min']:.3f} s (aim {aim} s)")
    assert benchmark.stats["min"] <= aim


def test_silhouette_of_half_a_million(benchmark, half_a_million):
    loops = benchmark.pedantic(lambda: silhouette(half_a_million, UP, STEP, noise=0.02), rounds=3)
    assert len(loops) == 2
    told(benchmark, "silhouette of 500 k triangles", 2.0)


def test_the_whole_outline_of_a_plate_by_itself(benchmark):
    loops = plate()
    automatic_sketch(loops, STEP)
    got = benchmark.pedantic(lambda: automatic_sketch(loops, STEP), rounds=5)
    assert len(got.strokes) == 12
    told(benchmark, "whole outline of 12 pieces, in the core", 0.5)


def test_a_toothed_outline_of_two_hundred_pieces(benchmark):
    loop = loop_of(sprocket_outline(Sprocket(teeth=50, root=60.0, tip=66.0)))
    automatic_sketch([loop], STEP)
    got = benchmark.pedantic(lambda: automatic_sketch([loop], STEP), rounds=3)
    assert sum(e["kind"] in ("line", "arc") for e in got.geometry) == 200
    told(benchmark, "toothed outline of 200 pieces, in the core", 2.5)


def test_one_size_of_sixty_entities_changed(benchmark):
    loop = loop_of(sprocket_outline(Sprocket(teeth=15)))
    drawn = automatic_sketch([loop], STEP, repeats=False)
    assert len(drawn.strokes) == 60
    board = Board(drawn.strokes, drawn.relations, [Size("s1", "length", ("e1",), chosen=4.0, source="typed")])
    board = settled(board, [loop], 1.5).board

    def changed():
        board.sizes[0].chosen = 8.1 - board.sizes[0].chosen  # to and fro
        return settled(board, [loop], 1.5)

    benchmark.pedantic(changed, rounds=6)
    told(benchmark, "one size of 60 entities, in the core", 0.15)
