"""The house is in order: floors know only those below, and no committed file names a machine or a registry."""

import re
import subprocess
from pathlib import Path

import pytest

ROOT = Path(__file__).resolve().parents[1]


def test_import_contracts_hold():
    r = subprocess.run([str(ROOT / ".venv/bin/lint-imports")], cwd=ROOT, capture_output=True, text=True)
    assert r.returncode == 0, r.stdout


def test_no_addresses_in_lock_files():
    for name in ("web/package-lock.json", "requirements.txt", "requirements-test.txt"):
        text = (ROOT / name).read_text()
        assert '"resolved"' not in text and not re.search(r"registry\.|index-url|extra-index|@ file|pypi\.", text), name


WEB = ROOT / "web" / "src"
SOURCES = sorted(p for p in WEB.rglob("*") if p.suffix in (".ts", ".vue") and p.name != "schema.ts")


def _kinds() -> dict[str, str]:
    """Every kind of step, and what it gives."""
    from deftmason.core.recipe.parse import kinds

    return {k: c.produces for k, c in kinds().items()}


def _names_a_kind(text: str, kinds: dict[str, str]) -> list[str]:
    """Places where a kind is named. A word that is also what stones give counts only where a kind is spoken of."""
    given = set(kinds.values())
    alone = [k for k in kinds if k not in given]
    found = re.findall(r"['\"`](?:" + "|".join(alone) + r")['\"`]", text)
    for k in kinds:
        found += re.findall(rf"\.?kind\b[^\n]{{0,12}}[!=]==?\s*['\"`]{k}['\"`]", text)
        found += re.findall(rf"(?:takeUp|kindOf)\(\s*['\"`]{k}['\"`]", text)
        found += re.findall(rf"\bkind:\s*['\"`]{k}['\"`]", text)
    return found


def test_no_kind_of_step_is_named_outside_its_own_modules_on_the_screens():
    kinds = _kinds()
    guilty = {}
    for path in SOURCES:
        where = path.relative_to(WEB)
        if where.parts[0] == "kinds" and len(where.parts) == 3:
            continue  # a stage's own folder
        found = _names_a_kind(path.read_text(), kinds)
        if found:
            guilty[str(where)] = found
    assert not guilty, guilty


def test_the_look_for_named_kinds_finds_them():
    kinds = _kinds()
    for text in (
        "if (hand.kind === 'scan') x()",
        "takeUp('frame', {})",
        "const KINDS = ['decimate']",
        'kind: "sketch"',
    ):
        assert _names_a_kind(text, kinds), text
    assert not _names_a_kind("s.produces === 'scan' && gives: ['frame']", kinds)


def test_every_kind_has_one_module_on_the_screens_and_every_module_a_kind():
    told = {}
    for path in (WEB / "kinds").glob("*/*.ts"):
        for kind in re.findall(r"defineKind<[\s\S]*?>\(\{\s*kind: '(\w+)'", path.read_text()):
            assert kind not in told, f"{kind} is told twice"
            told[kind] = path.stem
    assert set(told) == set(_kinds())


def test_no_kind_of_step_is_named_in_the_server_or_the_recipe():
    kinds, guilty = _kinds(), {}
    for folder in ("server", "core/recipe", "core/deliver", "cli"):
        for path in (ROOT / "src/deftmason" / folder).rglob("*.py"):
            if path.parent.name == "kinds":
                continue
            text = path.read_text()
            found = [k for k in kinds if re.search(rf"kind[\"'\])]*\s*[!=]=\s*[\"']{k}[\"']", text)]
            if found:
                guilty[str(path.relative_to(ROOT))] = found
    assert not guilty, guilty


def _imports(path: Path) -> list[Path]:
    out = []
    for name in re.findall(r"^import (?!type\b)[^'\"]*['\"](\.[^'\"]+)['\"]", path.read_text(), re.M):
        at = (path.parent / name).resolve()
        out += [p for p in (at, at.with_suffix(".ts"), Path(f"{at}.ts")) if p.is_file()][:1]
    return out


def test_no_circles_of_imports_on_the_screens():
    graph = {p: _imports(p) for p in SOURCES}
    done: set[Path] = set()

    def walk(p: Path, trail: tuple[Path, ...]):
        assert p not in trail, " → ".join(q.name for q in (*trail[trail.index(p) :], p))
        if p in done:
            return
        for q in graph.get(p, []):
            walk(q, (*trail, p))
        done.add(p)

    for p in SOURCES:
        walk(p, ())


@pytest.mark.parametrize("folder", ["src", "tests", "bench", "web/src", "web/tests"])
def test_lines_stay_short(folder):
    most = 110 if folder.startswith("web") else 120
    long = [
        f"{p.relative_to(ROOT)}:{n}"
        for p in (ROOT / folder).rglob("*")
        if p.suffix in (".py", ".ts", ".vue") and p.name != "schema.ts" and "egg-info" not in str(p)
        for n, line in enumerate(p.read_text().splitlines(), 1)
        if len(line) > most and not re.search(r"['`\"].{60,}['`\"]", line)
    ]
    assert not long, long[:20]
