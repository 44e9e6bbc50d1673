"""What the pages load before they can be served: the second start is up in seconds because it is little."""

import subprocess
import sys


def test_the_pages_wait_for_no_compiler_and_no_solver():
    """Kernels, the solver and USD come in the background, or when a file needs them."""
    code = "import sys, zembrik.web.app; print([m for m in ('numba', 'scipy', 'pxr', 'alembic3d') if m in sys.modules])"
    told = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert told.stdout.strip() == "[]"
