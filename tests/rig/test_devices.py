"""Simulated devices as processes of their own: what they touch and see lies on their hidden part, as fast as a real one
sends it, and nothing that was taken is lost with the line.
"""

import socket
import time

import numpy as np
import pytest

from deftmason.core.capture.words import line_of, packed, read_line, unpacked
from deftmason.core.check.deviation import ModelSurface
from deftmason.demo.devices import hidden_pose, true_part

from ..devices import started


class Speaker:
    """A line to a device."""

    def __init__(self, port):
        self.socket = socket.create_connection(("127.0.0.1", port), 20)
        self.stream = self.socket.makefile("rb")

    def ask(self, **request):
        self.socket.sendall(line_of(request))

    def hear(self):
        return read_line(self.stream)

    def until(self, *words, most=100_000):
        """Records up to one that says one of these words, that one too."""
        out = []
        while len(out) < most:
            out.append(self.hear())
            if out[-1] is None or out[-1]["say"] in words:
                return out
        return out

    def gone(self):
        self.socket.shutdown(socket.SHUT_RDWR)
        self.socket.close()


@pytest.fixture(scope="module")
def arm():
    with started("arm", "bracket") as port:
        yield port


@pytest.fixture(scope="module")
def table():
    with started("table", "bracket", "--speed", "20") as port:
        yield port


@pytest.fixture(scope="module")
def surface():
    """Distances of places in a device's coordinates from the hidden part's true surface."""
    pose, true = hidden_pose("bracket").inverse(), ModelSurface(true_part("bracket"))
    return lambda p: true.distances(pose.points(np.atleast_2d(np.asarray(p, float)))).distance


def over(hello):
    """A path across the part's middle, above it."""
    low, high = (np.array(hello["stands"][k]) for k in ("low", "high"))
    middle = 0.5 * (low + high)
    half = 0.45 * (high[0] - low[0])
    above = [middle[0], middle[1], high[2] + 30]
    return [[above[0] - half, above[1], above[2]], [above[0] + half, above[1], above[2]]]


def test_points_go_and_come_as_they_were():
    rng = np.random.default_rng(1)
    p = rng.normal(size=(700, 3)) * 40 + [1e5, -2e5, 3e4]  # far from the origin, single precision is enough
    sight = rng.normal(size=(700, 3))
    back, seen = unpacked(packed(p, sight))
    assert np.abs(back - p).max() < 1e-5 and np.abs(seen - sight).max() < 1e-6
    for wrong in ({"count": 3}, {"count": -1}, {"count": 700, "places": "AAAA"}):
        with pytest.raises((ValueError, KeyError)):
            unpacked({**packed(p, sight), **wrong})


def test_a_ball_rests_a_radius_off_the_part(arm, surface):
    d = Speaker(arm)
    d.ask(ask="hello")
    hello = d.hear()
    assert hello["device"] == "arm" and hello["speaks"] == 1 and hello["rate"] >= 30_000
    start = np.array(over(hello)[0])
    for k in range(5):
        d.ask(ask="touch", **{"from": (start + [5.0 * k + 4, 2.0, 0]).tolist()}, along=[0.05, 0.02, -1])
        said = d.hear()
        assert said["say"] == "touched" and abs(surface(said["ball"])[0] - hello["ball"]) < 0.02
    d.ask(ask="touch", **{"from": start.tolist()}, along=[0, 0, 1])
    assert d.hear() == {"say": "missed"}
    d.ask(ask="touch", along=[0, 0, 1])
    assert d.hear()["say"] == "refused"
    d.ask(ask="dance")
    assert d.hear()["say"] == "refused"
    d.gone()


def test_a_sweep_streams_as_fast_as_a_real_one_and_lies_on_the_part(arm, surface):
    d = Speaker(arm)
    d.ask(ask="hello")
    path = over(d.hear())
    seconds = []
    for _ in range(3):  # the fastest: what else the machine does in between is not the device's pace
        begin = time.monotonic()
        d.ask(ask="sweep", path=path, along=[0, 0, -1], width=30.0)
        said = d.until("swept")
        seconds.append(time.monotonic() - begin)
    points = np.concatenate([unpacked(r)[0] for r in said[:-1]])
    assert said[-1]["whole"] and len(points) > 15_000
    asked = np.linalg.norm(np.subtract(*path)) / (30.0 / 300) * 300  # rays: some meet nothing, graze or are blinded
    assert 20_000 < asked / min(seconds) < 34_000
    off = surface(points)
    assert np.median(np.abs(off)) < 0.03 and np.quantile(np.abs(off), 0.99) < 0.12
    sight = np.concatenate([unpacked(r)[1] for r in said[:-1]])
    assert np.allclose(sight, [0, 0, 1], atol=1e-6)
    d.gone()


def test_pause_resume_and_stop_are_heard_while_it_streams(arm):
    d = Speaker(arm)
    d.ask(ask="hello")
    path = over(d.hear())
    d.ask(ask="sweep", path=path, along=[0, 0, -1], width=30.0)
    d.hear()
    d.ask(ask="pause")
    time.sleep(0.4)
    d.socket.setblocking(False)
    before = 0
    try:
        while d.socket.recv(1 << 20, socket.MSG_PEEK) and before < 3:
            before += 1
    except BlockingIOError:
        pass
    d.socket.setblocking(True)
    d.ask(ask="resume")
    d.hear()
    d.ask(ask="stop")
    assert d.until("swept")[-1] == {"say": "swept", "whole": False}
    d.gone()


def test_a_line_lost_in_the_middle_loses_nothing_taken(arm):
    d = Speaker(arm)
    d.ask(ask="hello")
    hello = d.hear()
    d.ask(ask="sweep", path=over(hello), along=[0, 0, -1], width=30.0)
    heard = [d.hear()["seq"] for _ in range(6)]
    d.gone()  # in the middle of the stream
    time.sleep(1.0)
    again = Speaker(arm)
    again.ask(ask="again", after=heard[-1])
    said = again.until("caught up")
    seqs = [r["seq"] for r in said[:-1]]
    assert said[-1]["lost"] == 0 and seqs and seqs == list(range(heard[-1] + 1, heard[-1] + 1 + len(seqs)))
    again.gone()


def test_a_table_sees_the_part_from_all_sides(table, surface):
    d = Speaker(table)
    d.ask(ask="hello")
    assert d.hear()["tools"] == ["table"]
    d.ask(ask="turn", stops=6, tilt_deg=30)
    said = d.until("turned")
    assert {r["stop"] for r in said[:-1]} == set(range(6)) and said[-1]["whole"]
    points = np.concatenate([unpacked(r)[0] for r in said[:-1]])
    assert np.median(np.abs(surface(points))) < 0.03
    about = points - points.mean(axis=0)
    turns = np.degrees(np.arctan2(about[:, 1], about[:, 0]))
    assert (np.histogram(turns, 12, (-180, 180))[0] > 500).all()
    d.ask(ask="turn", stops=0)
    assert d.hear()["say"] == "refused"
    d.gone()
