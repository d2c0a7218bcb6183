"""A few seeds of each kind of fuzzing; the long runs are `make fuzz`."""

import pytest

from deftmason.server.engines.pool import Pool

from .fuzzing import MOST_MEMORY, brick_records, fuzz_api, fuzz_files, fuzz_recipes
from .test_together import bodied

pytestmark = pytest.mark.hostile


@pytest.fixture(scope="module")
def pool(served):
    p = Pool(str(served.folder), count=2, memory=int(MOST_MEMORY))
    yield p
    p.close()


def test_damaged_files_are_read_or_refused(pool, tmp_path):
    assert fuzz_files(pool, tmp_path, range(8)) == []


def test_damaged_recipes_run_or_are_refused(pool, person, brick_file):
    job = bodied(person, brick_file)
    assert fuzz_recipes(pool, brick_records(person, job), range(60)) == []


def test_whatever_is_sent_is_answered_in_the_one_shape(served, person, brick_file):
    job = bodied(person, brick_file)
    assert fuzz_api(person, str(served.folder), job, brick_records(person, job), 160, 7) == []
