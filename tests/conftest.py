import pytest

from .postgres import Server


@pytest.fixture(scope="session")
def postgres(tmp_path_factory):
    server = Server(tmp_path_factory.mktemp("postgres"))
    yield server
    server.kill()


@pytest.fixture
def database(postgres, request):
    """The URL of an empty database."""
    return postgres.database(f"t{abs(hash(request.node.nodeid))}")
