"""Whatever a step tells in these tests is held against the model its kind says it tells."""

import pytest

from deftmason.core.recipe.replay import Replay


@pytest.fixture(autouse=True)
def told_as_said(monkeypatch):
    real = Replay.laid

    def laid(self, step, key, progress):
        ran = real(self, step, key, progress)
        if ran.done:
            tells = type(step).tells
            known = {f.alias or name for name, f in tells.model_fields.items()}
            assert set(ran.summary) <= known, (step.kind, set(ran.summary) - known)
            tells.model_validate(ran.summary)
        return ran

    monkeypatch.setattr(Replay, "laid", laid)
