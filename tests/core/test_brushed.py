"""What is brushed on or off a pick: kept as places, so that it holds on another scan too."""

import numpy as np
import pytest

from deftmason.core.errors import BadInput
from deftmason.core.recipe.kinds.datum import resolve_pick
from deftmason.core.recipe.step import Pick

from .test_edges import draped


@pytest.fixture(scope="module")
def step():
    """Two flats, 2 mm one over the other."""
    return draped(lambda x, y: np.where(x > 34.5, 2.0, 0.0), noise=0.005)


def picked(index, *marks):
    pick = Pick(place=(15.0, 25.0, 0.0), normal=(0.0, 0.0, 1.0), rule="same bend", marks=list(marks))
    return resolve_pick(index, pick, "this", "plane")


def stroke(how, x, radius=6.0):
    return {"by": "brush", "how": how, "places": [(x, 0.0, 0.0), (x, 49.0, 0.0)], "radius": radius}


def test_a_stroke_takes_off_what_it_passes_and_another_puts_it_on(step):
    whole = picked(step)
    less = picked(step, stroke("take away", 10.0))
    x = step.mesh.centroids[:, 0]
    gone = np.setdiff1d(whole.facets, less.facets)
    assert len(gone) and (np.abs(x[gone] - 10) <= 6).all()
    assert not (np.abs(x[less.facets] - 10) < 5).any()
    again = picked(step, stroke("take away", 10.0), stroke("add", 10.0, 6.5))
    assert np.isin(whole.facets, again.facets).all()


def test_the_fit_follows_what_is_brushed_on(step):
    from deftmason.core.scan.picking import fit_gathered

    both = picked(step, {"by": "outline", "how": "add", "places": [(40, 5, 2), (65, 5, 2), (65, 45, 2), (40, 45, 2)],
                         "toward": (0.0, 0.0, 1.0)})  # fmt: skip
    assert step.mesh.centroids[both.facets][:, 2].max() > 1.9
    free = fit_gathered(step, both, "plane", keep_all=True)[0].element
    assert abs(free.normal[2]) < 0.9999
    own = fit_gathered(step, picked(step), "plane")[0].element
    assert abs(own.normal[2]) > 0.99999


def test_with_everything_brushed_off_it_says_so(step):
    with pytest.raises(BadInput, match="Nothing of the pick is left"):
        picked(step, {"by": "everything", "how": "take away"})
