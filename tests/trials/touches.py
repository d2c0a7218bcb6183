"""Trial of touches: planes, lines, bores, bosses and roundings of any size, anywhere, touched a few times by a ball
that trembles; what is read is compared with the truth, and with the ± it is told with. Touches led to both sides and
roundings that were hardly gone round must be refused.
"""

from __future__ import annotations

import numpy as np
from scipy.spatial.transform import Rotation

from deftmason.core.capture.touched import Touches, probed
from deftmason.core.errors import BadInput

from .report import REFUSED, RIGHT, WRONG, Outcome

MEASURE = "times the ± that was told"
_KINDS = ("plane", "line", "circle", "rounding")
_FAR = 2.0  # times the ±: farther off it is wrong


def case(seed: int) -> list[Outcome]:
    rng = np.random.default_rng([seed, 23])
    out = []
    for kind in _KINDS:
        scale = float(np.exp(rng.uniform(np.log(2), np.log(2e4))))
        ball = scale * rng.uniform(0.004, 0.03)
        tremble = scale * 10 ** rng.uniform(-5.5, -4)
        count = int(rng.integers(4, 14)) + (kind == "rounding")
        turn = Rotation.random(random_state=rng.integers(1 << 31)).as_matrix()
        away = rng.normal(size=3) * scale * 10 ** rng.uniform(0, 2.5)
        balls, along, truth, what = _touched(kind, rng, scale, ball, count)
        moved = (balls + tremble * rng.normal(size=balls.shape)) @ turn.T + away
        name = f"{kind} {scale:.3g} mm, {count} touches{what}"
        out.append(_judged(kind, name, Touches.of(moved, along @ turn.T, ball), truth, turn, away))
    flat = np.column_stack([rng.uniform(-1, 1, (6, 2)), np.zeros(6)]) * 40
    both = np.where(np.arange(6)[:, None] % 2, [[0, 0, 1.0]], [[0, 0, -1.0]])
    out.append(_refused("plane from both sides", "plane", Touches.of(flat, both, 1.0)))
    a = np.radians(np.linspace(30, 30 + rng.uniform(3, 15), 6))
    ring = np.column_stack([np.cos(a), np.sin(a), np.zeros(6)])
    out.append(_refused("rounding hardly gone round", "rounding", Touches.of(9 * ring, -ring, 1.0)))
    return out


def _touched(kind: str, rng, scale: float, ball: float, count: int):
    """Balls' middles and leads in the part's coordinates, the true size (0: its place), and what it is."""
    if kind == "plane":
        flat = rng.uniform(-0.5, 0.5, (count, 2)) * scale
        flat[:3] = scale * np.array([[-0.4, -0.3], [0.4, -0.3], [0.0, 0.4]])
        lead = np.array([0.2, -0.1, -1.0])
        return np.column_stack([flat, np.full(count, ball)]), np.tile(lead, (count, 1)), 0.0, ""
    if kind == "line":
        x = np.linspace(-0.5, 0.5, count) * scale
        return (
            np.column_stack([x, np.zeros(count), np.full(count, ball)]),
            np.tile([0.1, 0, -1.0], (count, 1)),
            0.0,
            "",
        )
    whole = kind == "circle"
    span = 360.0 * (1 - 1 / count) if whole else rng.uniform(35, 110)
    a = np.radians(rng.uniform(0, 360) + np.linspace(0, span, count))
    out = np.column_stack([np.cos(a), np.sin(a), np.zeros(count)])
    radius = 0.5 * scale
    outside = bool(rng.uniform() < 0.5) or not whole
    side = 1.0 if outside else -1.0
    what = f", {'outside' if outside else 'inside'}, {span:.0f}°"
    balls = out * (radius + side * ball)
    if not whole and rng.uniform() < 0.5:  # several rows along the rounding
        rows = int(rng.integers(2, 5))
        height = np.repeat(np.arange(rows) * scale * rng.uniform(0.2, 1.0), count)[:, None] * [0, 0, 1.0]
        balls, out, what = np.tile(balls, (rows, 1)) + height, np.tile(out, (rows, 1)), f"{what}, {rows} rows"
    return balls, -side * out, radius, what


def _judged(kind: str, name: str, touches: Touches, truth: float, turn: np.ndarray, away: np.ndarray) -> Outcome:
    try:
        found = probed(kind, touches)
    except BadInput as e:
        return Outcome(name, REFUSED, 0.0, e.message)
    e, unc = found.element, found.fit.uncertainty
    if truth:
        off, told = abs(e.radius - truth), 2 * unc["radius"]
    else:
        # Where the element passes the middle of what was touched, which the truth runs through at no height.
        n = turn @ np.array([0, 0, 1.0])
        middle = touches.balls.mean(axis=0)
        foot = e.feet(middle[None])[0]
        off, told = abs((foot - away) @ n), 2 * float(np.linalg.norm(unc["point"]))
    ratio = off / max(told, 1e-300)
    return Outcome(name, RIGHT if ratio < _FAR else WRONG, ratio, f"off {off:.2g} mm, told ± {told:.2g}")


def _refused(name: str, kind: str, touches: Touches) -> Outcome:
    try:
        probed(kind, touches)
    except BadInput:
        return Outcome(name, RIGHT, 0.0, "refused")
    return Outcome(name, WRONG, 0.0, "taken")
