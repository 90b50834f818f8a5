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
    # Only what is needed is loaded: the peak of memory is one of the figures.
    if sys.argv[2].startswith("{"):  # the spec of a store of another kind
        where = "bench.kinds"
    else:
        where = "bench.floors" if name.startswith(("bare-", "sdk-")) else "bench.ours"
    module = importlib.import_module(where)
    figure = getattr(module, name.replace("-", "_"))
    value = figure(int(count)) if count else figure(sys.argv[2], Path(sys.argv[3]))
    print(json.dumps({"value": value, "peak_mib": peak()}))


if __name__ == "__main__":
    main()
