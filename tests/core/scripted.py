"""The script of a replayed recipe, run alone, must build the same body: its volume and every face of it."""

import subprocess
import sys

import numpy as np

from deftmason.core.check.deviation import ModelSurface
from deftmason.core.deliver.script import model_script
from deftmason.core.kernel.files import read_model
from deftmason.core.kernel.tessellate import diagonal_of, tessellate
from deftmason.core.recipe.parse import parse_step
from deftmason.core.recipe.replay import Replay

VOLUME = 1e-6
FACE_MM = 1e-4


def built_alone(steps: list[dict], store, file, folder) -> str:
    """Replay ``steps``, run the script they make, and hold its model against the replayed one, face by face, both
    ways; the script's text."""
    replay = Replay([parse_step(s) for s in steps], store, file)
    ran = replay.run()
    assert all(r.done for r in ran if r.status != "off"), [(r.step.name, r.says) for r in ran]
    last = [r for r in ran if r.step.produces == "body" and r.done][-1]
    body = replay.output(last.step.id)
    text = model_script("Part", ran)
    (folder / "model.py").write_text(text)
    done = subprocess.run([sys.executable, "model.py"], cwd=folder, capture_output=True, text=True, timeout=180)
    assert done.returncode == 0, done.stderr[-800:]
    built = read_model(str(folder / "model.step"))
    got = float(done.stdout.split()[1])
    assert abs(got - body.volume) <= VOLUME * body.volume, (got, body.volume)
    assert len(built.face_names) == len(body.face_names)
    for one, other in ((built, body), (body, built)):
        places = tessellate(one, 1e-3 * diagonal_of(one)).vertices
        apart = np.abs(ModelSurface(other).distances(places).distance)
        assert apart.max() <= FACE_MM, f"{apart.max():.3g} mm apart"
    return text
