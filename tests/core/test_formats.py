"""Every format is read as written; text columns are recognised; what is broken is refused in one sentence and little
memory.
"""

import json
import struct
import zipfile

import numpy as np
import pytest

from deftmason.core.errors import BadArgument, BadInput
from deftmason.core.scan.files import read_scan
from deftmason.core.scan.mesh import PointCloud, TriMesh
from deftmason.core.scan.textpoints import TextLayout, read_text_points, recognise

from .shapes import ball

BALL = ball(0, level=2)
POINTS = np.random.default_rng(0).uniform(-9, 9, (40, 3)).round(4)


@pytest.mark.parametrize("suffix", ["off", "3mf", "glb", "obj"])
def test_meshes_of_every_format(tmp_path, suffix):
    import trimesh

    path = str(tmp_path / f"ball.{suffix}")
    trimesh.Trimesh(BALL.vertices, BALL.faces, process=False).export(path)
    scan = read_scan(path).scan
    assert isinstance(scan, TriMesh) and len(scan.faces) == len(BALL.faces)
    assert np.abs(np.sort(np.linalg.norm(scan.vertices, axis=1)) - 10).max() < 1e-4
    assert np.abs(scan.vertices[scan.faces].sum() - BALL.vertices[BALL.faces].sum()) < 0.05


@pytest.mark.parametrize("suffix", ["glb", "ply", "obj"])
def test_vertex_colours_are_kept(tmp_path, suffix):
    import trimesh

    rgb = np.random.default_rng(1).integers(0, 255, (len(BALL.vertices), 3), dtype=np.uint8)
    mesh = trimesh.Trimesh(BALL.vertices, BALL.faces, vertex_colors=rgb, process=False)
    path = str(tmp_path / f"ball.{suffix}")
    mesh.export(path)
    scan = read_scan(path).scan
    assert scan.colors is not None and np.abs(scan.colors.astype(int) - rgb).max() <= 1


def test_e57_with_colours_and_pose(tmp_path):
    import pye57

    path = str(tmp_path / "hull.e57")
    rgb = np.random.default_rng(1).integers(0, 255, (len(POINTS), 3))
    e = pye57.E57(path, mode="w")
    data = {f"cartesian{k}": POINTS[:, i].copy() for i, k in enumerate("XYZ")}
    data |= {f"color{k}": rgb[:, i].astype(np.uint8) for i, k in enumerate(("Red", "Green", "Blue"))}
    e.write_scan_raw(data, translation=np.array([100.0, 0, 0]))
    e.close()
    scan = read_scan(path).scan
    assert isinstance(scan, PointCloud) and np.allclose(scan.points, POINTS + [100, 0, 0], atol=1e-6)
    assert np.array_equal(scan.colors, rgb)
    broken = tmp_path / "short.e57"
    broken.write_bytes((tmp_path / "hull.e57").read_bytes()[:1500])
    with pytest.raises(BadInput, match="short.e57"):
        read_scan(str(broken))


def lines(rows, delimiter, decimal="."):
    return "\n".join(delimiter.join(str(v).replace(".", decimal) for v in r) for r in rows) + "\n"


RGB = np.random.default_rng(2).integers(0, 256, (40, 3))
UNIT = POINTS / np.linalg.norm(POINTS, axis=1)[:, None]


@pytest.mark.parametrize(
    "text, delimiter, columns, skip, comma",
    [
        (lines(POINTS, " "), "spaces", "x y z", 0, False),
        (lines(POINTS, ","), "comma", "x y z", 0, False),
        (lines(POINTS, ", "), "comma", "x y z", 0, False),
        (lines(POINTS, "\t"), "tab", "x y z", 0, False),
        (lines(POINTS, ";", ","), "semicolon", "x y z", 0, True),
        (lines(POINTS, " ", ","), "spaces", "x y z", 0, True),
        (
            "40\n" + lines(np.column_stack([POINTS, np.arange(40) * 50 - 900, RGB]), " "),
            "spaces",
            "x y z intensity red green blue",
            1,
            False,
        ),
        (
            "# head\n// more\nx;y;z;r;g;b\n" + lines(np.column_stack([POINTS, RGB]), ";"),
            "semicolon",
            "x y z red green blue",
            3,
            False,
        ),
        (lines(np.column_stack([POINTS, UNIT.round(5)]), " "), "spaces", "x y z nx ny nz", 0, False),
        ("Z,X,Y\n" + lines(POINTS, ","), "comma", "z x y", 1, False),
    ],
)
def test_text_columns_are_recognised(tmp_path, text, delimiter, columns, skip, comma):
    path = tmp_path / "cloud.asc"
    path.write_text(text)
    found = recognise(str(path))
    assert (found.delimiter, " ".join(found.columns), found.skip, found.decimal_comma) == (
        delimiter,
        columns,
        skip,
        comma,
    )
    assert len(found.sample) and len(found.sample[0]) == len(found.columns)
    cloud = read_scan(str(path)).scan
    order = [columns.split().index(c) for c in "xyz"]
    assert np.allclose(cloud.points, POINTS[:, order])
    if "red" in columns:
        assert np.array_equal(cloud.colors, RGB)
    if "nx" in columns:
        assert np.allclose(cloud.normals, UNIT, atol=1e-4)


def test_columns_may_be_told_otherwise(tmp_path):
    path = tmp_path / "cloud.xyz"
    path.write_text(lines(np.column_stack([np.arange(40), POINTS]), ","))
    layout = TextLayout("comma", ("skip", "x", "y", "z"), 0)
    assert np.allclose(read_text_points(str(path), layout).points, POINTS)
    assert np.allclose(read_scan(str(path), "in", layout).scan.points, POINTS * 25.4)
    with pytest.raises(BadArgument, match="x, y and z"):
        read_text_points(str(path), TextLayout("comma", ("x", "y", "skip", "skip"), 0))
    with pytest.raises(BadArgument, match="'colour'"):
        read_text_points(str(path), TextLayout("comma", ("colour", "x", "y", "z"), 0))


def bomb(path, size):
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as z:
        with z.open("3D/3dmodel.model", "w") as f:
            for _ in range(size >> 20):
                f.write(b" " * (1 << 20))


def glb(claim):
    """A GLB whose accessor says it holds far more than the file does."""
    text = json.dumps(
        {
            "asset": {"version": "2.0"}, "scenes": [{"nodes": [0]}], "nodes": [{"mesh": 0}],
            "meshes": [{"primitives": [{"attributes": {"POSITION": 0}}]}],
            "accessors": [{"bufferView": 0, "componentType": 5126, "count": claim, "type": "VEC3"}],
            "bufferViews": [{"buffer": 0, "byteLength": 36}], "buffers": [{"byteLength": 36}],
        }
    ).encode()  # fmt: skip
    text += b" " * (-len(text) % 4)
    body = struct.pack("<II", len(text), 0x4E4F534A) + text + struct.pack("<II", 36, 0x004E4942) + bytes(36)
    return struct.pack("<III", 0x46546C67, 2, 12 + len(body)) + body


BAD = {
    "zero.off": b"",
    "short.off": b"OFF\n100 200 0\n0 0 0\n1 0 0\n",
    "range.off": b"OFF\n3 1 0\n0 0 0\n1 0 0\n0 1 0\n3 0 1 9\n",
    "count.off": b"OFF\n4000000000 4000000000 0\n0 0 0\n",
    "text.glb": b"the ferry did not run today\n" * 9,
    "short.glb": glb(3)[:60],
    "count.glb": glb(400_000_000),
    "text.3mf": b"PK is not enough",
    "text.e57": b"nothing here but words, and not many of those at all........",
    "words.pts": b"one two three\nfour five six\n",
    "two.xyz": b"1 2\n3 4\n",
    "ragged.xyz": b"1 2 3\n4 5 6\n7 8\n",
    "nan.xyz": b"nan nan nan\n" * 50,
    "bytes.asc": bytes(range(256)) * 8,
}


@pytest.mark.parametrize("name", BAD)
def test_bad_files_get_one_sentence(tmp_path, name):
    import tracemalloc

    path = tmp_path / name
    path.write_bytes(BAD[name])
    tracemalloc.start()
    with pytest.raises(BadInput) as caught:
        read_scan(str(path))
    peak = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert name in caught.value.message and "\n" not in caught.value.message
    assert peak < 100_000_000


def test_a_package_that_unpacks_to_gigabytes_is_refused_without_unpacking(tmp_path):
    path = tmp_path / "bomb.3mf"
    bomb(path, 1_200 << 20)
    assert path.stat().st_size < 4_000_000
    import tracemalloc

    tracemalloc.start()
    with pytest.raises(BadInput, match="unpacks to more than"):
        read_scan(str(path))
    assert tracemalloc.get_traced_memory()[1] < 50_000_000
    tracemalloc.stop()


def test_a_single_triangle_is_a_mesh(tmp_path):
    path = tmp_path / "one.off"
    path.write_text("OFF\n3 1 0\n0 0 0\n1 0 0\n0 1 0\n3 0 1 2\n")
    assert len(read_scan(str(path)).scan.faces) == 1
