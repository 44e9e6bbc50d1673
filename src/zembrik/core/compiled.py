"""Compiling kernels with Numba, once a machine.

Numba's disk cache looks only at the file a kernel stands in, not at the files of the
kernels it calls. So each module's kernels are kept in a folder named by the hash of that
module and of all core modules it imports, however far away (and of all that define named
tuples, whose layout is compiled in): an edit gets fresh folders where it matters, and stale
machine code can never run.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

os.environ.setdefault("NUMBA_THREADING_LAYER", "omp")  # the layer that any thread may call
# Threads that wait for each other soon let go of their core: where something else needs it (a second bake, the web
# server), spinning on makes everything ten times slower.
os.environ.setdefault("GOMP_SPINCOUNT", "10000")

import numba
from llvmlite import ir
from numba import config, njit
from numba.core import cgutils
from numba.extending import intrinsic

from zembrik.core.asked_first import ask_plain_kinds_first
from zembrik.core.lanes import LanesType, kind_of, number_in, spread
from zembrik.core.sources import source_hash

ask_plain_kinds_first()

# Nothing may reorder or fuse what is written: a kernel that calls another is compiled with a copy of it, and which of
# the copies runs depends on what was compiled or loaded first. With leave to fuse ("contract") the copies rounded
# otherwise, about once in a hundred frames, so that the first bake on a machine was not that of the second. It also
# differed from processor to processor. Where fusing pays, kernels say so themselves: `fma` below.


def cache_home() -> Path:
    """Return where compiled kernels are kept."""
    return Path(os.environ.get("ZEMBRIK_KERNELS") or Path.home() / ".cache" / "zembrik" / "kernels")


def _cache_for(function: Callable[..., Any]) -> None:
    """Let Numba keep what it compiles of this function where its module's hash says."""
    config.CACHE_DIR = str(cache_home() / source_hash(Path(function.__code__.co_filename).resolve()))


def kernel(function: Callable[..., Any]) -> Any:
    """Compile a function of numbers and arrays for one thread, callable from other kernels."""
    _cache_for(function)
    return njit(cache=True, error_model="numpy", nogil=True)(function)


def bare_kernel(function: Callable[..., Any]) -> Any:
    """Compile a kernel that makes no array, for one thread.

    Nothing in it counts who holds which array: where a kernel hands many on to others within, for each of thousands of
    small tasks, that counting takes longer than they do.
    """
    _cache_for(function)
    return njit(cache=True, error_model="numpy", nogil=True, _nrt=False)(function)


@intrinsic
def fma(typingctx, a, b, c):  # type: ignore[no-untyped-def]
    """Return a b + c, rounded once, on any processor (one instruction where it has one); numbers or `Lanes`."""
    lanes = kind_of(a, b, c)
    kinds, many = [number_in(kind, lanes) for kind in (a, b, c)], isinstance(lanes, LanesType)

    def code(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        values = [spread(builder, value, lanes.form) for value in arguments] if many else arguments
        of = values[0].type
        name = f"llvm.fma.{lanes.word if many else 'f64'}"
        function = cgutils.get_or_insert_function(builder.module, ir.FunctionType(of, [of] * 3), name)
        return builder.call(function, values)

    return lanes(*kinds), code


@njit(inline="always")
def dot3(a, b, c, x, y, z):  # type: ignore[no-untyped-def]
    """Return a x + b y + c z."""
    return fma(a, x, fma(b, y, c * z))


def parallel_kernel(function: Callable[..., Any]) -> Any:
    """Compile a function whose `prange` loops run on several threads.

    Every pass of such a loop must write to places of its own, so that the result is the
    same for any number of threads.
    """
    _cache_for(function)
    return njit(cache=True, error_model="numpy", nogil=True, parallel=True)(function)


def use_threads(count: int) -> int:
    """Let parallel kernels use `count` threads (capped at what there is); return the number set."""
    count = max(1, min(int(count), numba.config.NUMBA_NUM_THREADS))
    numba.set_num_threads(count)
    return count
