"""What several tests share: small setups, a database cluster of the tests' own, and baked caches."""

import copy
import os
import tempfile
from pathlib import Path

import pytest
from hypothesis import settings as hypothesis_settings

from zembrik.core.bake import bake
from zembrik.core.compiled import use_threads
from zembrik.core.setup.assets import FolderAssets
from zembrik.core.setup.document import parse_setup

# The same examples on every run, however slow, so that what passed here passes elsewhere.
# ZEMBRIK_EXPLORE=1 tries new ones.
hypothesis_settings.register_profile("fixed", derandomize=True, deadline=None)
if not os.environ.get("ZEMBRIK_EXPLORE"):
    hypothesis_settings.load_profile("fixed")

SHEET_ON_BALL = {
    "title": "sheet on a ball",
    "frames": [1, 12],
    "bodies": [
        {
            "name": "sheet",
            "role": "cloth",
            "mesh": {"shape": "grid", "size": [1.0, 1.0], "segments": [16, 16]},
            "place": {"translate": [0.0, 1.02, 0.0]},
            "material": {"preset": "linen"},
        },
        {
            "name": "ball",
            "role": "collider",
            "mesh": {"shape": "ball", "radius": 0.5},
            "place": {"translate": [0.0, 0.5, 0.0]},
            "proxy": {"kind": "ball"},
        },
    ],
    "quality": {"substeps": 10},
}


@pytest.fixture(autouse=True)
def threads():
    """Two threads, but one where two processes test side by side on two cores."""
    use_threads(1 if "PYTEST_XDIST_WORKER" in os.environ else 2)


@pytest.fixture
def sheet():
    """A small setup as a document, free to change."""
    return copy.deepcopy(SHEET_ON_BALL)


@pytest.fixture(scope="session")
def baked(tmp_path_factory):
    """A cache of the small setup; not to be changed."""
    folder = tmp_path_factory.mktemp("baked")
    return bake(parse_setup(SHEET_ON_BALL), FolderAssets(folder), folder / "sheet.zarr")


@pytest.fixture(scope="session")
def settings():
    """An installation with an empty, migrated database in a cluster of its own."""
    from zembrik.library.cluster import Cluster
    from zembrik.library.database import upgrade
    from zembrik.library.settings import Settings

    with tempfile.TemporaryDirectory(prefix="zembrik-tests-") as folder:
        Path(folder).chmod(0o755)  # the postgres user must get through
        cluster = Cluster(Path(folder) / "postgres", safe=False)
        try:
            made = Settings(Path(folder) / "home", cluster.start())
            made.make_folders()
            upgrade(made)
            yield made
        finally:
            cluster.remove()


@pytest.fixture(scope="session")
def database(settings):
    from zembrik.library.database import Database

    opened = Database(settings)
    yield opened
    opened.engine.dispose()


@pytest.fixture
def shot(database, sheet):
    """A shot with the small setup, in a show of its own; returns its number."""
    import uuid

    from zembrik.library.shots import create_shot, create_show

    with database.session() as session:
        show = create_show(session, f"Show {uuid.uuid4()}")
        return create_shot(session, show, "T-010", "Sheet on a ball", sheet).id
