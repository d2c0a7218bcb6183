"""Every refusal of the API is one sentence in one shape, names the field where there is one, and changes nothing."""

import json
import re

import pytest

from .conftest import block_steps, lay, start_job

pytestmark = pytest.mark.django_db

PICK = {"place": [20, 15, 0], "normal": [0, 0, -1], "rule": "same facing"}
DATUM = {"kind": "datum", "name": "D", "scan": "scan", "pick": PICK}


@pytest.fixture
def job(api, block_bytes):
    return start_job(api, block_bytes)


def said(answer) -> str:
    """The sentence, once the shape is as it should be."""
    assert set(answer) >= {"code", "message", "field", "hint"}
    message = answer["message"]
    assert message[0].isupper() or message[0] in "'\"" or ":" in message
    assert message.endswith((".", "?")) and "\n" not in message and len(message) < 300
    assert not re.search(r"Traceback|Exception|Error\b|None|\bdict\b|pydantic", message)
    return message


UNKNOWN = ["/stones/none", "/results/" + "0" * 64, "/values/none", "/proofs/9999", "/studies/9999"]


@pytest.mark.parametrize("path", UNKNOWN)
def test_what_is_not_there_is_said(api, job, path):
    said(api.lean("GET", f"/jobs/{job}{path}", expect=404))


def test_a_job_that_is_not_there_is_said(api):
    for path in ("", "/stamp", "/stones", "/stones/x", "/picture.png"):
        said(api.lean("GET", f"/jobs/424242{path}", expect=404))


WRONG = [
    ({"name": "X"}, "kind"),
    ({"kind": "nonsense", "name": "X"}, "nonsense"),
    ({**DATUM, "pick": None}, "pick"),
    ({**DATUM, "scan": "gone"}, "not there|gone"),
    ({**DATUM, "element": "octopus"}, "element"),
    ({**DATUM, "pick": {**PICK, "place": [1, 2]}}, "place"),
    ({**DATUM, "pick": {**PICK, "angle_deg": 400}}, "angle"),
    ({**DATUM, "pick": {**PICK, "place": [500, 500, 500]}}, "away from the scan"),
    ({**DATUM, "name": ""}, "name"),
    ({**DATUM, "name": "two\nlines"}, "line break"),
    ({**DATUM, "colour": "red"}, "colour"),
    ({**DATUM, "version": 99}, "newer program"),
    ({**DATUM, "id": "No Capitals"}, "id"),
    ({"kind": "decimate", "name": "X", "scan": "scan", "share": 2}, "share"),
    ({"kind": "smooth", "name": "X", "scan": "scan", "strength": "much"}, "strength"),
    ({"kind": "match", "name": "X", "scans": ["scan"]}, "scans"),
    ({"kind": "fillet", "name": "X", "scan": "scan", "frame": "scan", "body": "scan", "edges": []}, "edge|frame|body"),
]


@pytest.mark.parametrize("step, about", WRONG, ids=[str(k) for k in range(len(WRONG))])
@pytest.mark.parametrize("path", ["/stones", "/preview"])
def test_a_wrong_step_is_refused_and_the_job_stays(api, job, step, about, path):
    before = api.lean("GET", f"/jobs/{job}")
    if path == "/preview":
        answer = api.client.generic(
            "POST",
            f"/api/jobs/{job}{path}",
            json.dumps({"step": step}),
            content_type="application/json",
            HTTP_X_CSRFTOKEN=api.token,
        )
        if answer.status_code == 200:  # what only its computation can tell, it tells as its outcome
            told = answer.json()
            while not told["done"]:
                told = api.lean("GET", f"/jobs/{job}/studies/{told['study']}")
            assert told["result"]["status"] in ("failed", "waiting")
            assert re.search(about, told["result"]["says"], re.I)
        else:
            assert answer.status_code == 422
            assert re.search(about, said(answer.json()), re.I)
    else:
        assert re.search(about, said(api.lean("POST", f"/jobs/{job}{path}", {"step": step}, expect=422)), re.I)
    after = api.lean("GET", f"/jobs/{job}")
    assert (after["revision"], after["stones"]) == (before["revision"], before["stones"])


def test_changes_of_nothing_are_refused_in_words(api, job):
    assert "nothing to undo" in said(api.lean("POST", f"/jobs/{job}/undo", expect=422)).lower()
    assert "nothing to redo" in said(api.lean("POST", f"/jobs/{job}/redo", expect=422)).lower()
    said(api.lean("POST", f"/jobs/{job}/stones/none/switch", expect=404))
    said(api.lean("DELETE", f"/jobs/{job}/stones/none", expect=404))
    assert "keeps its scan" in said(api.lean("DELETE", f"/jobs/{job}/stones/scan", expect=422))
    said(api.lean("POST", f"/jobs/{job}/values", {"name": "none", "value": 1}, expect=404))
    said(api.lean("POST", f"/jobs/{job}/proofs", {"step": "scan", "name": "P"}, expect=422))


def test_a_stone_that_bears_others_is_not_taken_out(api, job):
    for step in block_steps()[:4]:
        lay(api, job, step)
    message = said(api.lean("DELETE", f"/jobs/{job}/stones/low", expect=422))
    assert "rest on 'Low'" in message and "switch it off" in message


@pytest.mark.parametrize(
    "path, body, about",
    [
        ("/sketch/trace", {"sketch": {"scan": "scan", "frame": "none", "height": 3}}, "none|not there"),
        ("/sketch/trace", {"sketch": {"scan": "scan", "frame": "scan", "axis": "w"}}, "axis"),
        (
            "/sketch/change",
            {"sketch": {"scan": "scan", "frame": "scan"}, "change": {"do": "wish"}},
            "automatic|change",
        ),
        (
            "/sketch/drag",
            {"sketch": {"scan": "gone", "frame": "f"}, "handle": "e1.end", "to": [0, 0]},
            "gone|not there",
        ),
        ("/rims", {"scan": "gone"}, "gone|not there"),
        ("/select", {"scan": "scan", "marks": [{"by": "wish"}]}, "by|wish"),
        ("/edges", {"body": "scan", "place": [0, 0, 0]}, "body"),
        ("/pick", {"scan": "scan", "pick": {"place": [900, 0, 0]}}, "away from the scan"),
    ],
)
def test_questions_that_cannot_be_answered_say_why(api, job, path, body, about):
    answer = api.client.generic(
        "POST", f"/api/jobs/{job}{path}", json.dumps(body), "application/json", HTTP_X_CSRFTOKEN=api.token
    )
    assert answer.status_code in (404, 422), answer.content[:300]
    assert re.search(about, said(answer.json()), re.I), answer.json()


def test_words_that_are_no_record_are_refused(api, job):
    for text in ("", "{", "[]", '"step"', "{'step': 1}", '{"step": NaN}'):
        answer = api.client.generic(
            "POST", f"/api/jobs/{job}/stones", text, content_type="application/json", HTTP_X_CSRFTOKEN=api.token
        )
        assert answer.status_code in (400, 422), (text, answer.status_code)
        said(answer.json())
