"""`mason join`: every scan in the frame of the first, and one mesh of all that could be placed."""

from __future__ import annotations

import json
import os
import time

from ..core.errors import BadArgument, BadInput
from ..core.progress import Progress, part

__all__ = ["join_files"]


def _pairs(path: str, count: int) -> list[tuple[int, int, list, list]]:
    """The rough correspondences of a --pairs file."""
    name = os.path.basename(path)
    try:
        with open(path, encoding="utf-8") as f:
            data = json.load(f)
    except OSError:
        raise BadInput(f"{name}: cannot be read; give a JSON file of pairs.") from None
    except ValueError:
        raise BadInput(
            f'{name}: is not JSON; write {{"pairs": [{{"fixed", "moving", "fixed_points", "moving_points"}}]}}.'
        ) from None
    listed = data.get("pairs") if isinstance(data, dict) else None
    if not isinstance(listed, list) or not listed:
        raise BadInput(
            f'{name}: has no list "pairs"; write {{"pairs": [{{"fixed", "moving", "fixed_points", "moving_points"}}]}}.'
        )
    out = []
    for k, entry in enumerate(listed):
        try:
            fixed, moving = int(entry["fixed"]), int(entry["moving"])
            p = [[float(c) for c in q] for q in entry["fixed_points"]]
            q = [[float(c) for c in r] for r in entry["moving_points"]]
        except (KeyError, TypeError, ValueError):
            raise BadInput(
                f"{name}: pair {k + 1} lacks fixed, moving, fixed_points or moving_points as numbers."
            ) from None
        if not (0 <= fixed < count and 0 <= moving < count) or fixed == moving:
            raise BadInput(
                f"{name}: pair {k + 1} names scans {fixed} and {moving}; give two different numbers "
                f"from 0 to {count - 1}."
            )
        if len(p) != len(q) or len(p) < 3 or any(len(r) != 3 for r in p + q):
            raise BadInput(f"{name}: pair {k + 1} needs three or more points of x, y, z, as many fixed as moving.")
        out.append((fixed, moving, p, q))
    return out


def join_files(
    files: list[str],
    out: str,
    *,
    units: str,
    pairs: str | None,
    noise: float | None,
    resolution: float | None,
    transforms: str | None,
    progress: Progress,
) -> tuple[dict, bool]:
    """The contract's answer to `join`, and whether every scan was placed. Raises before anything is written."""
    if len(files) < 2:
        raise BadArgument("FILE: give two scans or more to join.", field="files")
    for option, value in (("noise", noise), ("resolution", resolution)):
        if value is not None and not 0 < value < float("inf"):
            raise BadArgument(f"--{option} must be above 0 mm.", field=option)
    if os.path.splitext(out)[1].lower() not in (".stl", ".ply"):
        raise BadArgument(f"{out}: write the joined mesh as .stl or .ply.", field="out")
    for path in filter(None, (out, transforms)):
        folder = os.path.dirname(os.path.abspath(path))
        if not os.path.isdir(folder):
            raise BadArgument(f"{path}: there is no folder '{folder}' to write into; make it first.", field="out")
    known = _pairs(pairs, len(files)) if pairs else []
    from ..core.scan.files import read_scan, write_scan

    read = [read_scan(f, units) for f in files]
    names = [os.path.basename(f) for f in files]
    begin = time.perf_counter()
    from ..core.join.merge import merge
    from ..core.join.pairs import place_by_pairs
    from ..core.join.run import join as join_scans
    from ..core.join.run import joined_by_pairs, settle_placed
    from ..core.join.seen import see

    warnings = [f"{n}: {w}" for n, r in zip(names, read) for w in r.warnings]
    seen = []
    for k, (n, r) in enumerate(zip(names, read)):
        progress(0.1 * k / len(read), f"Looking at {n}")
        seen.append(see(r.scan, n))
        if seen[-1].dropped:
            warnings.append(f"{n}: {' and '.join(seen[-1].dropped)} left out.")
    # Pairs tie scans together one by one, beginning with those tied to the first.
    placed = {}
    if known:
        placed = {0: _still()}
        todo = list(known)
        while todo:
            ready = next((t for t in todo if (t[0] in placed) != (t[1] in placed)), None)
            if ready is None:
                break
            todo.remove(ready)
            fixed, moving, p, q = ready
            if moving in placed:
                fixed, moving, p, q = moving, fixed, q, p
            fit = place_by_pairs(q, placed[fixed].points(p))
            placed[moving] = joined_by_pairs(seen, {fixed: placed[fixed]}, moving, fit.motion, fit.rms)
    given = dict(placed)
    if len(placed) < len(seen):
        result = join_scans(seen, noise=noise, placed=placed or None, progress=part(progress, 0.1, 0.7))
    if given:
        motions = given if len(given) == len(seen) else result.motions
        refused = {} if len(given) == len(seen) else result.refused
        done = settle_placed(seen, motions, held={0}, progress=part(progress, 0.6, 0.7))
        motions, links = done.motions, done.links
    else:
        motions, links, refused = result.motions, result.links, result.refused
    if 0 not in motions:
        warnings.append(
            f"{names[0]}: the first scan could not be placed with the others; the frame is that of "
            f"{names[min(motions)]}."
        )
    unplaced = [i for i in range(len(seen)) if i not in motions or len(motions) < 2 and i > 0]
    warnings += [f"{names[i]}: not placed. {refused[i].why}" for i in unplaced if i in refused]
    merged = merge(
        {i: seen[i] for i in motions}, motions, resolution=resolution, noise=noise, progress=part(progress, 0.7, 0.95)
    )
    seconds = time.perf_counter() - begin
    answer = {
        "transforms": [motions[i].matrix.tolist() if i in motions else None for i in range(len(seen))],
        "links": [{"a": l.a, "b": l.b, "overlap": l.overlap, "rms": l.rms} for l in links],
        "unplaced": unplaced,
        "merged": {"points": len(merged.mesh.vertices), "triangles": len(merged.mesh.faces)},
        "warnings": warnings,
        "seconds": seconds,
    }
    write_scan(out, merged.mesh)
    if transforms:
        _write_whole(transforms, json.dumps({"files": names, "transforms": answer["transforms"]}, indent=1))
    progress(1.0)
    return answer, not unplaced


def _still():
    from ..core.elements import RigidMotion

    return RigidMotion.identity()


def _write_whole(path: str, text: str) -> None:
    """Written under another name, then renamed, so that it is whole or not there."""
    beside = f"{path}.{os.getpid()}.part"
    with open(beside, "w", encoding="utf-8") as f:
        f.write(text)
    os.replace(beside, path)
