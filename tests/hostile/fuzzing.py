"""Seeded fuzzing of files, recipes and the API: `make fuzz`, and a few seeds of each in the tests.

Each run answers with what it found wrong; nothing found is an empty list. Wrong is: a failure inside, an engine that
crashed or outgrew its memory,
an answer that is not of the one shape, status 500, more than ten seconds.
"""

from __future__ import annotations

import hashlib
import json
import os
import time
from pathlib import Path

import numpy as np
import psutil

from deftmason.core.errors import MasonError
from deftmason.server.engines.pool import Busy, Pool, TooLong

from .mutations import HOSTILE_VALUES, damaged_bytes, damaged_records

__all__ = ["MOST_MEMORY", "SLOWEST", "fuzz_api", "fuzz_files", "fuzz_recipes", "good_files", "largest_process"]

MOST_MEMORY = 1.5e9  # bytes a process may hold
SLOWEST = 10.0  # seconds an answer may take
_SHAPE = {"code", "message", "field", "hint"}


def good_files(folder: Path) -> dict[str, bytes]:
    """A small good file of each format."""
    import pye57
    import trimesh

    from deftmason.core.scan.files import write_scan
    from deftmason.core.scan.mesh import PointCloud, TriMesh

    from ..core.test_scan import box_mesh

    mesh = box_mesh(4)
    mesh = TriMesh(mesh.vertices + np.random.default_rng(0).normal(0, 0.01, mesh.vertices.shape), mesh.faces)
    other = trimesh.Trimesh(mesh.vertices, mesh.faces, process=False)
    write_scan(str(folder / "mesh.stl"), mesh)
    write_scan(str(folder / "mesh.ply"), mesh)
    write_scan(str(folder / "cloud.ply"), PointCloud(mesh.vertices, None, np.full(mesh.vertices.shape, 9, np.uint8)))
    (folder / "text.stl").write_text(other.export(file_type="stl_ascii"))
    (folder / "text.ply").write_bytes(other.export(file_type="ply", encoding="ascii"))
    (folder / "mesh.obj").write_text(other.export(file_type="obj"))
    (folder / "mesh.off").write_text(other.export(file_type="off"))
    (folder / "mesh.3mf").write_bytes(trimesh.Scene([other]).export(file_type="3mf"))
    (folder / "mesh.glb").write_bytes(trimesh.Scene([other]).export(file_type="glb"))
    np.savetxt(folder / "cloud.xyz", mesh.vertices)
    np.savetxt(folder / "cloud.asc", mesh.vertices, delimiter=";")
    e = pye57.E57(str(folder / "cloud.e57"), mode="w")
    e.write_scan_raw({f"cartesian{a}": mesh.vertices[:, k].copy() for k, a in enumerate("XYZ")})
    e.close()
    from deftmason.core.deliver.drawing_files import write_dxf
    from deftmason.core.kernel.features import extrude
    from deftmason.core.kernel.writing import Part, write_brep, write_iges, write_parts

    from ..core.test_kernel import FLAT, circle, rectangle

    part = [Part.of(extrude(rectangle(40, 30), [circle(4, 2, 5)], FLAT, 0, 8, "Plate"), "Plate")]
    write_parts(str(folder / "model.step"), part)
    write_iges(str(folder / "model.igs"), part)
    write_brep(str(folder / "model.brep"), part)
    write_dxf(str(folder / "drawing.dxf"), [{"id": "e1", "kind": "line", "start": [0, 0], "end": [10, 0]}] * 3)
    names = sorted(p.name for p in folder.iterdir() if p.is_file())
    return {n: (folder / n).read_bytes() for n in names}


_PATIENCE = 3.0  # seconds for a reader that may hang
_NATIVE = (".step", ".igs", ".brep")  # the kernel's own readers


def _asked(pool: Pool, told: str, work: str, /, *, may_end: bool = False, **arguments) -> str | None:
    """What is wrong with how an engine took a question, if anything. ``may_end``: a reader that is not ours may crash
    or hang; its engine is ended, and the sender told.
    """
    begin = time.monotonic()
    try:
        pool.ask(work, limit=_PATIENCE if may_end else SLOWEST, **arguments)
    except (Busy, TooLong) as e:
        if may_end and isinstance(e, TooLong):
            return None
        return f"{told}: {e.code} after {time.monotonic() - begin:.1f} s"
    except MasonError as e:
        if may_end and e.code == "ended" and "\n" not in e.message:
            return None
        if e.code in ("inside", "ended") or "\n" in e.message:
            return f"{told}: {e.message}"
    return None


def fuzz_files(pool: Pool, folder: Path, seeds: range) -> list[str]:
    """Damaged files of every format, read by an engine."""
    files, wrong = good_files(folder), []
    for seed in seeds:
        rng = np.random.default_rng(seed)
        for name, data in files.items():
            damaged, told = damaged_bytes(data, rng), f"{name} seed {seed}"
            if name.endswith(".dxf"):
                found = _asked(pool, told, "entities_of_dxf", data=damaged)
            else:
                path = folder / "damaged"
                path.write_bytes(damaged)
                may_end = name.endswith(_NATIVE)
                sha = hashlib.sha256(path.read_bytes()).hexdigest()
                found = _asked(pool, told, "look_at_file", may_end=may_end, path=str(path), name=name, sha256=sha)
            if found:
                wrong.append(found)
    return wrong


def fuzz_recipes(pool: Pool, records: list[dict], seeds: range) -> list[str]:
    """Damaged recipes, run by an engine."""
    wrong = []
    for seed in seeds:
        steps = damaged_records(records, np.random.default_rng(seed))
        found = _asked(pool, f"recipe seed {seed}", "run", steps=steps)
        if found is None:
            found = _inside(pool, seed, steps)
        if found:
            wrong.append(found)
    return wrong


def _inside(pool: Pool, seed: int, steps: list[dict]) -> str | None:
    """A step that failed by the program's own fault."""
    from deftmason.core.recipe.parse import parse_recipe
    from deftmason.core.recipe.replay import step_keys

    try:
        keys = step_keys(parse_recipe(steps))
    except MasonError:
        return None
    for i, key in keys.items():
        record = pool.store.record(key) if key else None
        if record and record.get("broke"):
            return f"recipe seed {seed}, step {i}: {record['says']}"
    return None


def largest_process(folder: str) -> float:
    """Bytes the largest process of a server holds."""
    most = 0.0
    for p in psutil.process_iter(["pid", "memory_info"]):
        try:
            if folder in p.environ().get("DEFT_MASON_DATA", ""):
                most = max(most, p.info["memory_info"].rss)
        except (psutil.Error, TypeError):
            continue
    return most


def _by_schema(schema: dict, root: dict, depth: int = 0):
    """A strategy for what a JSON schema describes, large and odd values included; optional parts are often left out."""
    import hypothesis.strategies as st

    if "$ref" in schema:
        name = schema["$ref"].rsplit("/", 1)[1]
        return _by_schema(root.get("$defs", {}).get(name) or root["components"]["schemas"][name], root, depth + 1)
    if "const" in schema or "enum" in schema:
        return st.sampled_from(schema.get("enum") or [schema["const"]])
    for several in ("anyOf", "oneOf"):
        if several in schema:
            return st.one_of(*[_by_schema(s, root, depth + 1) for s in schema[several]])
    kind = schema.get("type")
    if kind == "object" or "properties" in schema:
        needed = set(schema.get("required", []))
        fields = {k: _by_schema(v, root, depth + 1) for k, v in schema.get("properties", {}).items()}
        must = {k: v for k, v in fields.items() if k in needed or depth == 0}
        return st.fixed_dictionaries(must, optional={k: v for k, v in fields.items() if k not in must})
    if kind == "array":
        if "prefixItems" in schema:
            return st.tuples(*[_by_schema(s, root, depth + 1) for s in schema["prefixItems"]]).map(list)
        return st.lists(
            _by_schema(schema.get("items", {}), root, depth + 1), min_size=schema.get("minItems", 0), max_size=4
        )
    if kind in ("number", "integer"):
        low, high = schema.get("minimum", -1e12), schema.get("maximum", 1e12)
        return st.integers(int(low), int(high)) if kind == "integer" else st.floats(low, high)
    if kind == "boolean":
        return st.booleans()
    if kind == "null":
        return st.none()
    if kind == "string" and "pattern" in schema:
        return st.one_of(st.from_regex(schema["pattern"], fullmatch=True), st.sampled_from(_IDS))
    if kind == "string":
        return st.one_of(st.sampled_from(_IDS), st.text(max_size=90))
    return st.sampled_from(HOSTILE_VALUES)


_IDS = ["scan", "low", "front", "left", "frame", "outline", "body", "e1", "e2"]


def _body_strategies(description: dict) -> dict[tuple[str, str], object]:
    """For each operation with a JSON body a strategy that follows its schema, and now and then does not."""
    import hypothesis.strategies as st

    from deftmason.core.recipe.parse import kinds

    hostile = st.sampled_from(HOSTILE_VALUES)
    schemas = [c.model_json_schema() for c in kinds().values()]
    steps = st.one_of(*[_by_schema(s, s) for s in schemas])
    out: dict[tuple[str, str], object] = {}
    for path, operations in description["paths"].items():
        for method, operation in operations.items():
            content = operation.get("requestBody", {}).get("content", {}).get("application/json")
            if content is None:
                continue
            fits = _by_schema(content["schema"], description)
            if path.endswith(("/stones", "/preview")):
                fits = st.fixed_dictionaries({"step": steps})
            out[method.upper(), path] = st.one_of(fits, fits, fits.flatmap(lambda b: _spoiled(b, hostile)), hostile)
    return out


def _spoiled(body, hostile):
    import hypothesis.strategies as st

    if not isinstance(body, dict) or not body:
        return hostile
    return st.tuples(st.sampled_from(sorted(body)), hostile).map(lambda kv: {**body, kv[0]: kv[1]})


def fuzz_api(person, folder: str, job: int, data: list[dict], count: int, seed: int) -> list[str]:
    """Bodies by the API's own description, sent to a real server; ``data`` are good steps of the job, damaged too."""
    import hypothesis
    import hypothesis.strategies as st

    description = json.loads((Path(__file__).resolve().parents[2] / "web" / "openapi.json").read_text())
    bodies = _body_strategies(description)
    places = sorted((m.upper(), p) for p, ms in description["paths"].items() for m in ms if not p.endswith("/uploads"))
    wrong: list[str] = []

    def send(method: str, path: str, body) -> None:
        begin = time.monotonic()
        text = json.dumps(body).encode() if body is not None else b""
        r = person.ask(method, path, data=text, headers={"Content-Type": "application/json"})
        spent = time.monotonic() - begin
        person.answers[r.status_code] += 1
        told = f"{method} {path} {text[:300]!r}: {r.status_code} {r.content[:200]!r}"
        if r.status_code >= 500 and r.status_code != 503 or spent > SLOWEST:
            wrong.append(f"{told} after {spent:.1f} s")
        elif r.status_code >= 400 and not _SHAPE <= set(r.json()):
            wrong.append(told)

    values = {
        "job_id": job,
        "step_id": "low",
        "key": "ab" * 32,
        "what": "scan",
        "proof_id": 1,
        "study": 1,
        "work_id": 1,
        "number": 1,
        "user": "x",
    }

    @hypothesis.seed(seed)
    @hypothesis.settings(
        max_examples=count,
        deadline=None,
        database=None,
        suppress_health_check=list(hypothesis.HealthCheck),
        phases=[hypothesis.Phase.generate],
    )
    @hypothesis.given(st.data())
    def run(draw):
        method, path = draw.draw(st.sampled_from(places))
        if method == "DELETE" and path == "/api/jobs/{job_id}":
            return
        body = draw.draw(bodies[method, path]) if (method, path) in bodies else None
        for name, value in values.items():
            odd = draw.draw(st.booleans()) and name != "job_id"
            path = path.replace(
                f"{{{name}}}",
                str(draw.draw(st.sampled_from(["0", "-1", "x", "%00", "9" * 30, "..%2f", "é"])) if odd else value),
            )
        send(method, path[4:], body)

    run()
    rng = np.random.default_rng(seed)
    for k in range(count // 4):
        for step in damaged_records(data, rng)[: 1 + k % 2]:
            send("POST", f"/jobs/{job}/{'preview' if k % 2 else 'stones'}", {"step": step})
    begin = time.monotonic()
    if person.ask("GET", "/session").status_code != 200 or time.monotonic() - begin > 2:
        wrong.append("/api/session did not answer within 2 s")
    largest = largest_process(folder)
    if largest > MOST_MEMORY:
        wrong.append(f"a process holds {largest / 1e9:.2f} GB")
    return wrong


def brick_records(person, job: int) -> list[dict]:
    return [s["record"] for s in person.get(f"/jobs/{job}/stones")]


def main() -> int:
    """``python -m tests.hostile.fuzzing SECONDS``: all three until the time is over; findings and counts are
    printed.
    """
    import sys
    import tempfile

    from ..served import Server
    from .people import Person, brick
    from .test_together import bodied

    seconds, begin, seed, wrong = float(sys.argv[1]), time.monotonic(), 1000, []
    counts = {"files": 0, "recipes": 0, "api": 0}
    with tempfile.TemporaryDirectory() as folder:
        server = Server(Path(folder) / "served")
        os.makedirs(server.folder)
        server.manage("migrate")
        server.start()
        pool = Pool(str(server.folder), count=2, memory=int(MOST_MEMORY))
        work = Path(folder) / "files"
        try:
            while time.monotonic() - begin < seconds:
                person = Person(server.url)
                job = bodied(person, brick())
                records = brick_records(person, job)
                work.mkdir(exist_ok=True)
                for name, run, count in (
                    ("files", lambda s=seed: fuzz_files(pool, work, range(s, s + 10)), 10),
                    ("recipes", lambda s=seed, r=records: fuzz_recipes(pool, r, range(s, s + 40)), 40),
                    (
                        "api",
                        lambda s=seed, p=person, j=job, r=records: fuzz_api(p, str(server.folder), j, r, 200, s),
                        250,
                    ),
                ):
                    found = run()
                    counts[name] += count
                    for line in found:
                        print("WRONG", line, flush=True)
                    wrong += found
                seed += 40
                print(
                    f"{time.monotonic() - begin:.0f} s: {counts}, {len(wrong)} wrong, slowest answer "
                    f"{person.slowest:.1f} s",
                    flush=True,
                )
        finally:
            pool.close()
            server.stop()
    return 1 if wrong else 0


if __name__ == "__main__":
    raise SystemExit(main())
