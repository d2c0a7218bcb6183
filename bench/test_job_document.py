"""How long the server takes to answer with a job of 150 stones, and to say that nothing changed."""

import pytest
from tests.server.conftest import Api, start_job
from tests.server.test_document import long_job

pytestmark = pytest.mark.django_db


@pytest.fixture
def many(db, page_exists, block_bytes):
    from deftmason.server.jobs.models import Job

    api = Api()
    job = start_job(api, block_bytes)
    long_job(Job.objects.get(pk=job), 150)
    api.lean("GET", f"/jobs/{job}")
    return api, job


@pytest.mark.parametrize("path", ["", "/stamp", "/stones/n3"])
def test_a_job_of_150_stones(many, benchmark, path):
    api, job = many
    benchmark(lambda: api.lean("GET", f"/jobs/{job}{path}"))
