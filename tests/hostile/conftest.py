"""A server for hostile hands, of its own, and a client within the process."""

import pytest

from ..served import Server
from ..server.conftest import Api, _tasks_now, page_exists  # noqa: F401  the same fixtures
from .people import Person, brick


@pytest.fixture(scope="session")
def served(tmp_path_factory):
    s = Server(tmp_path_factory.mktemp("hostile"), DEFT_MASON_PATIENCE="4")
    s.manage("migrate")
    s.start()
    yield s
    s.stop()


@pytest.fixture(scope="session")
def brick_file():
    return brick()


@pytest.fixture
def person(served):
    return Person(served.url)


@pytest.fixture
def api(db, page_exists):  # noqa: F811
    return Api()
