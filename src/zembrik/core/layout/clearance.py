"""How far one mesh can fall straight down until it touches another: exact for triangles."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from zembrik.core.compiled import kernel
