"""One figure, in a process of its own: `python -m bench.work NAME ENDPOINT FOLDER`. Prints JSON."""

from __future__ import annotations

import asyncio
import importlib
import json
import sys
from pathlib import Path

import uvloop

from bench.common import peak


def main() -> None:
    asyncio.set_event_loop_policy(uvloop.EventLoopPolicy())
    name, _, count = sys.argv[1].partition(":")
    is_floor = name.startswith(
        ("bare-", "sdk-")
    )  # only what is needed is loaded: the peak of memory is one of the figures
    figure = getattr(importlib.import_module("bench.floors" if is_floor else "bench.ours"), name.replace("-", "_"))
    value = figure(int(count)) if count else figure(sys.argv[2], Path(sys.argv[3]))
    print(json.dumps({"value": value, "peak_mib": peak()}))


if __name__ == "__main__":
    main()
