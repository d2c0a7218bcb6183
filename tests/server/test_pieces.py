"""Other pieces of a part through one recipe: what they share, what differs, the nominal laid, nothing lost."""

import pytest

from deftmason.core.elements import RigidMotion
from deftmason.core.recipe.parse import files_of
from deftmason.server.jobs.collecting import collect
from deftmason.server.jobs.models import Blob, Piece

from .conftest import lay, start_job
from .test_other_scan import LOW, wedge


def bytes_of(mesh, tmp_path):
    from deftmason.core.scan.files import write_scan

    path = tmp_path / "piece.ply"
    write_scan(str(path), mesh)
    return path.read_bytes()


@pytest.fixture
def job(api, tmp_path):
    """A job whose recipe reads a face and a side, and three worn pieces of its part brought in."""
    number = start_job(api, bytes_of(wedge(1), tmp_path))
    lay(api, number, LOW)
    return number


def bring(api, job, data, name="piece.ply", expect=200):
    up = api.upload(name, data)
    return api.call("POST", f"/jobs/{job}/pieces", {"scan": "scan", "scans": [{"upload": up["upload"]}]}, expect)


def test_pieces_are_run_and_told_of(api, job, tmp_path):
    assert api.call("GET", f"/jobs/{job}/pieces") == {"pieces": [], "sizes": [], "stale": 0}
    bring(api, job, bytes_of(wedge(2), tmp_path), "second.ply")
    seen = api.call("GET", f"/jobs/{job}/pieces")
    assert [(p["name"], p["status"]) for p in seen["pieces"]] == [("second.ply", "done")] and seen["stale"] == 0
    lay(api, job, {**LOW, "id": "low2", "name": "Low again"})
    assert api.call("GET", f"/jobs/{job}/pieces")["stale"] == 1
    assert api.call("POST", f"/jobs/{job}/pieces/run")["stale"] == 0


def test_a_piece_that_is_another_part_fails_alone(api, job, tmp_path, block_bytes):
    bring(api, job, block_bytes, "stranger.ply")
    bring(api, job, bytes_of(wedge(3), tmp_path), "third.ply")
    fates = {p["name"]: p for p in api.call("GET", f"/jobs/{job}/pieces")["pieces"]}
    assert fates["third.ply"]["status"] == "done"
    assert fates["stranger.ply"]["status"] in ("failed", "attention") and fates["stranger.ply"]["says"]


def test_a_pieces_file_is_kept_until_the_piece_goes(api, job, tmp_path, settings):
    bring(api, job, bytes_of(wedge(4), tmp_path))
    piece = Piece.objects.get(job=job)
    (sha,) = files_of(piece.record)
    collect(settings.DATA, 0.0, 0.0)
    assert Blob.objects.filter(sha256=sha).exists()
    api.call("DELETE", f"/jobs/{job}/pieces/{piece.pk}")
    collect(settings.DATA, 0.0, 0.0)
    assert not Blob.objects.filter(sha256=sha).exists()


def test_a_piece_becomes_a_job_of_its_own(api, job, tmp_path):
    bring(api, job, bytes_of(wedge(5).moved(RigidMotion.of([[0, -1, 0], [1, 0, 0], [0, 0, 1]], [90, 4, 1])), tmp_path))
    piece = Piece.objects.get(job=job)
    own = api.call("POST", f"/jobs/{job}/pieces/{piece.pk}/job")["id"]
    view = api.call("GET", f"/jobs/{own}")
    assert [s["id"] for s in view["stones"]] == ["scan", "low"] and view["undo"] is None
    assert all(s["status"] in ("sound", "attention") for s in view["stones"])
    assert "laid onto the first one's place" in view["stones"][0]["says"]


def test_what_cannot_be_is_refused_in_a_sentence(api, job, tmp_path):
    up = api.upload("again.ply", bytes_of(wedge(6), tmp_path))["upload"]
    said = api.call("POST", f"/jobs/{job}/pieces", {"scan": "low", "scans": [{"upload": up}]}, 422)
    assert "no such scan" in said["message"]
    api.call("POST", f"/jobs/{job}/pieces", {"scan": "scan", "scans": []}, 422)
    api.call("POST", f"/jobs/{job}/pieces/run", None, 422)
    api.call("POST", f"/jobs/{job}/pieces/nominal", {"values": [{"name": "nothing.there", "value": 3}]}, 404)
    api.call("DELETE", f"/jobs/{job}/pieces/99", None, 404)
    assert not Piece.objects.exists()


def test_the_nominal_is_laid_in_one_change_that_can_be_undone(api, job):
    lay(api, job, {"id": "up", "kind": "construct", "name": "Up", "way": "offset plane", "of": ["low"], "distance": 4})
    view = api.call("POST", f"/jobs/{job}/pieces/nominal", {"values": [{"name": "up.offset", "value": 4.5}]})
    value = next(v for v in view["values"] if v["name"] == "up.offset")
    assert value["chosen"] == 4.5 and view["undo"].startswith("Nominal of 1 value")
    assert api.call("POST", f"/jobs/{job}/undo")["values"][0]["chosen"] == 4.0
