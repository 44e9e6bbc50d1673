"""Seconds from `./zembrik demo` to the first baked frame of the first shot, cold and warm, and of a second start.

Cold: no kernels compiled, no data (Debian and Python packages are there). Warm: kernels compiled, no data.
Again: kernels and data are there; measured to the first page.

usage: python3 bench/start.py
"""

import json
import os
import re
import signal
import subprocess
import tempfile
import time
import urllib.request
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]


def start(home: str, kernels: str, *words: str) -> tuple[subprocess.Popen, str, float]:
    environment = {**os.environ, "ZEMBRIK_HOME": home, "ZEMBRIK_KERNELS": kernels}
    began = time.perf_counter()
    process = subprocess.Popen([ROOT / "zembrik", "demo", *words], env=environment, stdout=subprocess.PIPE, text=True)
    for line in process.stdout:
        if found := re.search(r"http://\S+", line):
            return process, found[0], began
    raise SystemExit("the demo did not start")


def stop(process: subprocess.Popen) -> float:
    began = time.perf_counter()
    process.send_signal(signal.SIGTERM)
    process.wait()
    return time.perf_counter() - began


def first_frame(address: str, began: float) -> float:
    while True:
        status = json.load(urllib.request.urlopen(f"{address}shots/1/status.json"))
        if status["bake"] and status["bake"]["done"] >= 1:
            return time.perf_counter() - began
        time.sleep(0.05)


def main() -> None:
    with tempfile.TemporaryDirectory() as kernels, tempfile.TemporaryDirectory() as home:
        for folder in (kernels, home):
            Path(folder).chmod(0o755)
        for name in ("cold", "warm"):
            process, address, began = start(home, kernels, "--fresh")
            up = time.perf_counter() - began
            print(f"{name}: up after {up:.1f} s, first frame after {first_frame(address, began):.1f} s", flush=True)
            if name == "cold":  # let everything compile
                time.sleep(30)
            print(f"  stopped within {stop(process):.1f} s", flush=True)
        process, address, began = start(home, kernels)
        urllib.request.urlopen(address).read()
        print(f"again: first page after {time.perf_counter() - began:.1f} s")
        print(f"  stopped within {stop(process):.1f} s")


if __name__ == "__main__":
    main()
