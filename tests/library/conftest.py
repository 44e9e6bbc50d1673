"""Another installation, for what would be in the way of other tests."""

import tempfile
from pathlib import Path

import pytest

from zembrik.library.cluster import Cluster
from zembrik.library.settings import Settings


@pytest.fixture
def elsewhere():
    """Another, empty installation."""
    with tempfile.TemporaryDirectory(prefix="zembrik-tests-") as folder:
        Path(folder).chmod(0o755)
        cluster = Cluster(Path(folder) / "postgres", safe=False)
        try:
            yield Settings(Path(folder) / "home", cluster.start())
        finally:
            cluster.remove()
