"""Engines: what crashes, hangs or hoards in one is a sentence to its asker and nothing to anybody else."""

import os
import signal
import threading
import time

import pytest

from deftmason.core.errors import BadInput, Cancelled, MasonError
from deftmason.core.recipe.store import ResultStore
from deftmason.server.engines.pool import Busy, Pool, TooLong
from deftmason.server.engines.turns import Turns

from ..timing import ends_within


@pytest.fixture(scope="module")
def pool(tmp_path_factory):
    p = Pool(str(tmp_path_factory.mktemp("engines")), count=3, memory=900_000_000, also=("tests.server.engine_work",))
    p.ask("test_echo", text="warm", limit=60)
    yield p
    p.close()


def pid(answer):
    return int(answer.split()[1])


def beside(work):
    """Run in a thread; its outcome in the list that is given back, and the thread."""
    out = []

    def run():
        try:
            out.append(work())
        except MasonError as e:
            out.append(e)

    t = threading.Thread(target=run)
    t.start()
    return out, t


def test_a_jobs_questions_go_where_it_is_hot(pool):
    first = pid(pool.ask("test_echo", job=1, text="a"))
    other = pid(pool.ask("test_echo", job=2, text="b"))
    assert pid(pool.ask("test_echo", job=1, text="c")) == first
    assert pid(pool.ask("test_echo", job=2, text="d")) == other != first


def test_a_question_costs_little_more_than_its_work(pool):
    pool.ask("test_echo", job=1, text="a")
    times = []
    for _ in range(30):
        begin = time.perf_counter()
        pool.ask("test_echo", job=1, text="a")
        times.append(time.perf_counter() - begin)
    assert sorted(times)[len(times) // 2] < 0.02


def test_refusals_and_failures_come_back_as_sentences(pool):
    with pytest.raises(BadInput) as refused:
        pool.ask("test_refuse")
    assert refused.value.message == "This is refused; give another." and refused.value.field == "text"
    with pytest.raises(MasonError, match="ZeroDivisionError") as wrong:
        pool.ask("test_wrong")
    assert wrong.value.code == "inside"
    assert pool.ask("test_echo", text="still").startswith("still")


def test_a_crash_is_the_failed_result_of_the_step_in_hand(pool):
    assert pool.ask("test_crash", key="aa" * 32) == "failed as known"
    record = pool.store.record("aa" * 32)
    assert (
        record["status"] == "failed"
        and record["broke"]
        and "Bad step" in record["says"]
        and "broke down" in record["says"]
    )
    with pytest.raises(MasonError, match="ended"):
        pool.ask("test_crash")


def test_what_outgrows_its_memory_is_ended(pool):
    begin = time.monotonic()
    assert pool.ask("test_hoard", gigabytes=4, key="bb" * 32, limit=60) == "failed as known"
    assert "memory" in pool.store.record("bb" * 32)["says"] and time.monotonic() - begin < 20
    with pytest.raises(MasonError):
        pool.ask("test_hoard", gigabytes=4, limit=60)


def test_what_outgrows_its_memory_is_ended_however_much_it_tells(pool):
    begin = time.monotonic()
    with pytest.raises(MasonError, match="memory") as ended:
        pool.ask("test_chatty_hoard", limit=30)
    assert ended.value.code == "ended" and time.monotonic() - begin < 15


def test_what_hangs_is_ended_a_second_after_its_time(pool):
    def hung():
        with pytest.raises(TooLong, match="task"):
            pool.ask("test_deaf", limit=0.5, heavy=True)
        with pytest.raises(TooLong, match="less at once"):
            pool.ask("test_deaf", limit=0.2)

    assert ends_within(5, hung)


@pytest.mark.parametrize(
    "asked", [{"name": "test_deaf"}, {"name": "test_polite", "seconds": 30}], ids=["deaf", "polite"]
)
def test_cancel_is_certain(pool, asked):
    def cancelled():
        stop = threading.Event()
        out, t = beside(lambda: pool.ask(asked["name"], **more, limit=None, stopped=stop.is_set))
        time.sleep(0.3)
        stop.set()
        t.join(30)
        assert isinstance(out[0], Cancelled)

    more = {k: v for k, v in asked.items() if k != "name"}
    assert ends_within(2.3, cancelled)


def test_heavy_work_leaves_room_for_a_quick_question(pool):
    stop = threading.Event()
    heavy = [
        beside(lambda p=p: pool.ask("test_polite", seconds=20, heavy=True, person=p, limit=None, stopped=stop.is_set))
        for p in ("ada", "ada", "ada", "ben", "ben")
    ]
    time.sleep(0.4)
    begin = time.monotonic()
    assert pool.ask("test_echo", text="quick", person="cleo", limit=5)
    assert time.monotonic() - begin < 2
    stop.set()
    for _, t in heavy:
        t.join(5)


def test_who_waits_longest_is_told_so(pool):
    stop = threading.Event()
    under_way = [beside(lambda: pool.ask("test_polite", seconds=20, limit=None, stopped=stop.is_set)) for _ in range(3)]
    time.sleep(0.3)
    with pytest.raises(Busy):
        pool.ask("test_echo", text="x", limit=0.5)
    stop.set()
    for _, t in under_way:
        t.join(5)


def test_only_one_makes_the_same_result(tmp_path):
    """Those who want the same key wait for the one who began, in this process or another; a maker that dies lets the
    next one in.
    """
    stores = [ResultStore(str(tmp_path)) for _ in range(8)]
    made, at_once, worst = [], [], []

    def make(store):
        with store.making("ab" * 32):
            at_once.append(1)
            worst.append(len(at_once))
            if not made:
                time.sleep(0.1)
                made.append(1)
            at_once.pop()

    threads = [threading.Thread(target=make, args=(s,)) for s in stores]
    for t in threads:
        t.start()
    for t in threads:
        t.join()
    assert made == [1] and max(worst) == 1 and os.listdir(tmp_path / "making") == []
    held = os.fork()
    if held == 0:
        with stores[0].making("cd" * 32):
            time.sleep(30)
        os._exit(0)
    time.sleep(0.3)

    def stop(share, message=""):
        raise Cancelled()

    with pytest.raises(Cancelled):
        with stores[1].making("cd" * 32, stop):
            raise AssertionError("two makers")
    os.kill(held, signal.SIGKILL)
    os.waitpid(held, 0)
    with stores[1].making("cd" * 32):
        made.append(2)
    assert made == [1, 2]


def test_turns_are_fair_between_people():
    turns = Turns(1)
    mine = turns.take("ada", False, 1)
    order = []

    def wait(person):
        turn = turns.take(person, False, 5)
        order.append(person)
        turns.give(turn)

    threads = []
    for person in ("ada", "ada", "ben"):
        threads.append(threading.Thread(target=wait, args=(person,)))
        threads[-1].start()
        time.sleep(0.05)
    turns.give(mine)
    for t in threads:
        t.join(5)
    assert sorted(order) == ["ada", "ada", "ben"] and order[0] == "ada"
    assert turns.take("ada", False, 0.01) is not None
    assert turns.take("ben", False, 0.05) is None


def test_the_web_server_loads_none_of_what_computes():
    """It starts at once and stays small: everything that works on geometry is loaded by engines alone."""
    import os
    import subprocess
    import sys

    heavy = ("numba", "scipy", "OCP", "open3d", "trimesh", "sklearn", "build123d")
    code = (
        f"import deftmason.server.wsgi, deftmason.server.urls, sys; print([m for m in {heavy!r} if m in sys.modules])"
    )
    env = {**os.environ, "DJANGO_SETTINGS_MODULE": "deftmason.server.settings"}
    said = subprocess.run([sys.executable, "-c", code], env=env, capture_output=True, text=True, check=True).stdout
    assert said.strip() == "[]"


def test_every_file_to_hand_on_has_its_writer():
    from deftmason.core.deliver.check_files import PROOF_FILES as PROOF_WRITERS
    from deftmason.core.deliver.goods import GOODS
    from deftmason.server.engines.places import FILES, PROOF_FILES

    assert set(FILES) == set(GOODS) and set(PROOF_FILES) == set(PROOF_WRITERS)
