"""The winch hood's model as steps: sections of half of it lofted, led past each other, trimmed, mirrored, thickened,
rounded as the scan says, with its lamp hole, cut-out and rails. Places are of the true part, taken to the scan by the
pose that is given, as a person's clicks and strokes would be.
"""

import numpy as np

from deftmason.demo.hood import HOOD

#: Where the sections lie along the hood, and how far from the middle and up their strokes run: clear of the rounding.
SECTIONS = ((12.0, 28.0, 22.0), (128.0, 33.0, 30.0))


def typed(value, source="typed"):
    return {"value": value, "source": source}


def skins(to_scan) -> list[dict]:
    """Two sections for the top, two for the side, each pair lofted."""
    h, out = HOOD, []
    for k, (x, y, z) in enumerate(SECTIONS):
        a, b = np.linspace(-5, y, 25), np.linspace(3, z, 21)
        lines = {
            "top": np.column_stack([0 * a + x, a, h.top(x, a)]),
            "side": np.column_stack([0 * b + x, h.side(x, b), b]),
        }
        for part, line in lines.items():
            stroke = {"id": "e1", "kind": "spline", "places": to_scan(line).tolist()}
            where = {"scan": "scan", "frame": "frame", "axis": "x", "height": -x, "strokes": [stroke]}
            out.append({"id": f"{part}{k}", "kind": "sketch", "name": f"{part.title()} section {k + 1}", **where})
    for part in ("top", "side"):
        sections = {"sections": [f"{part}0", f"{part}1"], "result": "surface", "frame": "frame"}
        out.append({"id": f"{part}_skin", "kind": "loft", "name": f"{part.title()} skin", **sections})
    return out


def planes() -> list[dict]:
    """The middle, both ends and the foot of the hood, each beside a face that was read."""
    h = HOOD
    made = (("middle", "side", h.rail[1]), ("far_end", "end", h.length), ("sill", "foot", h.rail[2]))
    return [
        {"id": i, "kind": "construct", "name": i.replace("_", " ").title(), "way": "offset plane", "of": [of],
         "distance": -by}
        for i, of, by in made
    ]  # fmt: skip


def longer(part: str, by: float) -> dict:
    more = {"body": f"{part}_skin", "do": "extend", "by": typed(by), "runs": "straight"}
    return {"id": f"{part}_long", "kind": "surfaceedit", "name": f"{part.title()}, longer", **more}


def outside(count=4000, seed=1) -> np.ndarray:
    """Places (n, 3) of the true outside, clear of rounding, lamp and cut-out."""
    h, rng = HOOD, np.random.default_rng(seed)
    x, y, z = rng.uniform(2, h.length - 2, count), rng.uniform(-30, 30, count), rng.uniform(3, 24, count)
    top = np.column_stack([x, y, h.top(x, y)])
    top = top[np.hypot(x - h.lamp_x, y) > h.lamp / 2 + 1]
    away = np.hypot((x - 52) / 1.5, (z - 20) / 0.8) > 13.5
    side = np.column_stack([x, h.side(x, z), z])[away]
    return np.vstack([top, side * [1, 1, 1], side * [1, -1, 1]])


def covered(edges) -> list[dict]:
    """What becomes of the skins: led past each other and trimmed, rounded, mirrored, thickened, cut to length, with the
    lamp's hole, the cut-out and the rails. ``edges`` tells the edges of a body already laid, by its id."""
    h, frame = HOOD, {"frame": "frame"}
    yield longer("top", 28)
    yield longer("side", 26)
    both = {"body": "top_long", "by": "side_long", "both": True, "keep": "behind", "keep_other": "before"}
    yield {"id": "half", "kind": "surfacetrim", "name": "Half", **frame, **both}
    to_middle = {"body": "half", "on": "middle", "keep": "before"}
    yield {"id": "to_middle", "kind": "surfacetrim", "name": "To the middle", **frame, **to_middle}
    rounding = {"edges": edges("to_middle"), "radius": typed(h.rounding, "hand reading"), "scan": "scan"}
    yield {"id": "round", "kind": "fillet", "name": "Rounding", "body": "to_middle", **frame, **rounding}
    yield {"id": "shell", "kind": "bodymirror", "name": "Shell", "body": "round", "on": "middle", **frame}
    wall = typed(h.wall, "hand reading")
    yield {"id": "wall", "kind": "thicken", "name": "Wall", "body": "shell", "thickness": wall}
    body = "wall"
    for on, keep in (("end", "behind"), ("far_end", "before"), ("sill", "behind")):
        yield {"id": f"at_{on}", "kind": "cutoff", "name": f"At {on}", "body": body, "on": on, "keep": keep, **frame}
        body = f"at_{on}"
    spot = {
        "place_x": -h.lamp_x,
        "place_y": h.rail[1],
        "radius": typed(h.lamp / 2),
        "low": typed(30),
        "high": typed(90),
    }
    yield {"id": "lamp", "kind": "solid", "name": "Lamp", "shape": "cylinder", "axis": "z", **spot, **frame}
    yield {"id": "lit", "kind": "bodycombine", "name": "Lamp hole", "body": body, "tools": ["lamp"]}
    # On this paper u runs up and v along the hood.
    rim = [[float(z + h.rail[2]), float(-x)] for x, z in h.cut_out(24)]
    stroke = {"id": "e1", "kind": "spline", "at": [*rim, rim[0]]}
    paper = {"scan": "scan", "axis": "y", "height": 5.0, "traces": [], "strokes": [stroke]}
    yield {"id": "rim", "kind": "sketch", "name": "Cut-out rim", **paper, **frame}
    ends = {"start": {"to": "through"}, "end": {"to": "through"}, "how": "cut"}
    cut = {"scan": "scan", "sketch": "rim", "body": "lit", **ends}
    yield {"id": "open", "kind": "extrude", "name": "Cut-out", **cut, **frame}
    low, high, thick = h.rail
    for k, y in enumerate((0.5 * (high - low), 2 * high - 0.5 * (high - low))):
        size = {"width": typed(h.length), "depth": typed(high - low), "low": typed(0.0), "high": typed(thick)}
        at = {"place_x": -h.length / 2, "place_y": y}
        yield {"id": f"rail{k}", "kind": "solid", "name": f"Rail {k + 1}", "shape": "box", **size, **at, **frame}
    rails = {"body": "open", "tools": ["rail0", "rail1"], "how": "join"}
    yield {"id": "hood", "kind": "bodycombine", "name": "Hood", **rails}
