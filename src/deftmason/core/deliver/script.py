"""The history as a parametric script: numbers at the top, sketches that solve themselves, features one a paragraph.

The script stands alone: it needs build123d (and the numpy it brings), nothing of this program. Changing a number at
the top and running it again moves the sketches by the same relations and sizes the job holds.
"""

from __future__ import annotations

from ..recipe.records import one_line
from ..recipe.replay import Ran, ledger, slug

__all__ = ["model_script"]

_HELPER = '''
def solve(points, radii, entities, relations, sizes):
    """Move the sketch as little as possible so that every relation and size holds."""
    count = 2 * len(points)
    x0 = np.concatenate([np.array(points, float).ravel(), np.array(radii, float)])
    at = {e["id"]: e for e in entities}

    def rows(x):
        p = lambda i: x[2 * i : 2 * i + 2]
        r = lambda e: x[count + e["radius"]]
        centre = lambda e: p(e["points"][-1])
        ends = lambda e: (p(e["points"][0]), p(e["points"][1]))
        along = lambda e: (ends(e)[1] - ends(e)[0]) / np.linalg.norm(ends(e)[1] - ends(e)[0])
        cross = lambda a, b: a[0] * b[1] - a[1] * b[0]
        off = lambda q, e: cross(along(e), q - ends(e)[0])
        out = []
        for e in entities:
            if e["kind"] == "arc":
                out += [np.linalg.norm(q - centre(e)) - r(e) for q in ends(e)]
        for kind, of in relations:
            a, b = at[of[0]], at[of[-1]]
            if kind in ("horizontal", "vertical"):
                q, s = ends(a) if len(of) == 1 else (centre(a), centre(b))
                out.append((s - q)[1 if kind == "horizontal" else 0])
            elif kind == "parallel":
                out.append(10 * cross(along(a), along(b)))
            elif kind == "perpendicular":
                out.append(10 * (along(a) @ along(b)))
            elif kind == "collinear":
                out += [off(q, a) for q in ends(b)]
            elif kind == "concentric":
                out += list(centre(b) - centre(a))
            elif kind == "equal":
                length = lambda e: np.linalg.norm(ends(e)[1] - ends(e)[0]) if e["kind"] == "line" else r(e)
                out.append(length(b) - length(a))
            elif kind == "tangent":
                if a["kind"] != "line" and b["kind"] == "line":
                    a, b = b, a
                round_one = "circle" in (a["kind"], b["kind"])
                shared = set() if round_one else set(a["points"][:2]) & set(b["points"][:2])
                if a["kind"] == "line" and shared:
                    out.append((p(min(shared)) - centre(b)) @ along(a))
                elif a["kind"] == "line":
                    out.append(abs(off(centre(b), a)) - r(b))
                elif shared:
                    q = p(min(shared))
                    out.append(cross(q - centre(a), q - centre(b)) / max(r(a), r(b)))
                else:
                    d = np.linalg.norm(centre(b) - centre(a))
                    out.append(min(d - r(a) - r(b), d - abs(r(a) - r(b)), key=abs))
        for kind, of, value in sizes:
            a, b = at[of[0]], at[of[-1]]
            if kind in ("radius", "diameter"):
                out.append(r(a) * (2 if kind == "diameter" else 1) - value)
            elif kind == "width":
                out.append(abs(sum(off(q, a) for q in ends(b)) / 2) - value)
            elif kind.startswith("spacing"):
                out.append(abs((centre(b) - centre(a))[int(kind.endswith("_y"))]) - value)
            else:
                out.append(centre(a)[int(kind.endswith("_y"))] - value)
        return np.array(out)

    x = x0.copy()
    for _ in range(50):
        c = rows(x)
        if not len(c) or np.abs(c).max() < 1e-12:
            break
        j = np.column_stack([(rows(x + h) - rows(x - h)) / 2e-6 for h in 1e-6 * np.eye(len(x))])
        step = np.linalg.pinv(j, rcond=1e-7) @ -c
        x += step
        if np.abs(step).max() < 1e-13:
            break
    return {e["id"]: {"kind": e["kind"], "ccw": e["ccw"], "at": [tuple(x[2 * i : 2 * i + 2]) for i in e["points"]],
                      "radius": None if e["radius"] is None else x[count + e["radius"]]} for e in entities}


def edge_of(e):
    if e["kind"] == "line":
        return Line(*e["at"])
    if e["kind"] == "circle":
        return Edge.make_circle(e["radius"], Plane((*e["at"][0], 0)))
    start, end, centre = (np.array(q) for q in e["at"])
    a = np.arctan2(*(start - centre)[::-1])
    b = np.arctan2(*(end - centre)[::-1])
    turn = (b - a) % (2 * np.pi) if e["ccw"] else -((a - b) % (2 * np.pi))
    middle = centre + e["radius"] * np.array([np.cos(a + turn / 2), np.sin(a + turn / 2)])
    return ThreePointArc(tuple(start), tuple(middle), tuple(end))


def face_of(sketch, loop, holes=()):
    wires = [Wire([edge_of(sketch[i]) for i in ids]) for ids in (loop, *holes)]
    return Face(wires[0], wires[1:])


def push(face, plane, start, end, lean=0.0):
    """From one height to another along the plane's normal; the outline keeps its size in the plane itself."""
    low, high = min(start, end), max(start, end)
    body = Solid.extrude(plane.offset(low) * face, plane.z_dir * (high - low))
    if lean:
        walls = [f for f in body.faces() if abs(f.normal_at().dot(plane.z_dir)) < 1e-6]
        body = draft(walls, plane, lean)
    return body


def edges_at(body, places):
    return [min(body.edges(), key=lambda e: e.distance_to(Vector(*p))) for p in places]
'''


def model_script(name: str, ran: list[Ran]) -> str:
    """A Python script that builds the last body of a replayed recipe as ``model``.

    Raises nothing for steps without a body; a job without one gives a script that says so and builds nothing.
    """
    values = {}
    numbers = []
    for full, r, v in ledger(ran):
        if r.step.produces not in ("sketch", "body") or not r.done:
            continue
        word = full.replace(".", "_")
        values[(r.step.id, v.name)] = word
        unit = "°" if v.unit == "deg" else "mm"
        seen = "" if v.measured is None else f"measured {v.measured:.3f} ± {v.uncertainty or 0:.3f} {unit}, "
        numbers.append(f"{word} = {v.chosen!r}  # {seen}{v.source}")
    out = [
        '"""A model rebuilt from a scan. Run it with Python and build123d; it writes model.step beside itself."""',
        "",
        _comment(f"{name}"),
        "",
        "import os",
        "",
        "import numpy as np",
        "from build123d import *",
        "",
        "# The numbers (mm, degrees).",
        *numbers,
        "",
        _HELPER.rstrip(),
        "",
    ]
    body, by_id = None, {r.step.id: r for r in ran}
    for r in ran:
        lines = r.step.in_script(r.summary, _Script(r, by_id, values)) if r.done else []
        if not lines:
            continue
        out += ["", _comment(r.step.name), *lines]
        if r.step.produces == "body":
            body = _word(r.step)
    if body:
        out += ["", f"model = {body}"]
    else:
        out += ["", "model = None  # the job has no body yet"]
    out += [
        "",
        'if __name__ == "__main__" and model is not None:',
        '    export_step(model, os.path.join(os.path.dirname(os.path.abspath(__file__)), "model.step"))',
        '    print(f"volume {model.volume:.6f} mm3, area {model.area:.6f} mm2")',
        "",
    ]
    return "\n".join(out)


def _comment(text: str) -> str:
    """A name as a comment: one line of printable ASCII, so that nothing in it is ever read as code."""
    return f"# {''.join(c if ' ' <= c <= '~' else '?' for c in one_line(text))}"


def _word(step) -> str:
    return f"{slug(step.name)}_{step.id}"


class _Script:
    """What one step of a replayed recipe may ask for while it is written."""

    def __init__(self, r: Ran, ran: dict[str, Ran], values: dict[tuple[str, str], str]):
        self.word, self._id, self._ran, self._values = _word(r.step), r.step.id, ran, values

    def _standing(self, step_id: str) -> Ran:
        r = self._ran[step_id]
        while not r.step.enabled and (under := r.step.stands_for()):
            r = self._ran[under]
        return r

    def named(self, step_id: str) -> str:
        return _word(self._standing(step_id).step)

    def value(self, name: str) -> str | None:
        return self._values.get((self._id, name))

    def told(self, step_id: str) -> dict:
        return self._standing(step_id).summary
