"""One package per storage protocol, over the one contract `core.ports.Store`. A new kind of store
is a package with a DriverSpec, and a line here.
"""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Mapping
from typing import Any

from pinecart.core.errors import Refused
from pinecart.core.ports import Store
from pinecart.core.registry import Registry
from pinecart.drivers.blob.driver import BLOB
from pinecart.drivers.connection_steps import Step
from pinecart.drivers.driver_spec import DriverSpec, Late
from pinecart.drivers.folder.driver import FOLDER
from pinecart.drivers.s3.driver import S3
from pinecart.drivers.sftp.driver import SFTP
from pinecart.drivers.smb.driver import SMB
from pinecart.drivers.swift.driver import SWIFT
from pinecart.drivers.webdav.driver import WEBDAV
from pinecart.drivers.webhdfs.driver import WEBHDFS

DRIVERS: Registry[DriverSpec] = Registry("kind of store")
DRIVERS.add(FOLDER.kind, FOLDER)
DRIVERS.add(S3.kind, S3)
DRIVERS.add(SFTP.kind, SFTP)
DRIVERS.add(WEBDAV.kind, WEBDAV)
DRIVERS.add(SMB.kind, SMB)
DRIVERS.add(BLOB.kind, BLOB)
DRIVERS.add(SWIFT.kind, SWIFT)
DRIVERS.add(WEBHDFS.kind, WEBHDFS)
KINDS = list(DRIVERS)
TRIED_WITHIN_S = 9.0
# Whoever is busy for a moment is asked again; who says nothing has had its time with one try.
TRIED = {"times": 1, "for_s": 2.0, "longest_s": 1.0, "most_asked_s": 1.0}
__all__ = ["DRIVERS", "load_all", "open_store", "try_store"]


def load_all() -> None:
    """What is loaded late, now."""
    for spec in DRIVERS.values():
        if isinstance(spec.open, Late):
            spec.open.load()


def _that_is_over(step: Step) -> Step:
    """Nothing is tried again after it."""
    return step._replace(message=step.message.replace("It is tried again.", "Try it once more."))


def open_store(spec: Mapping[str, Any]) -> Store:
    """A store from its spec: `kind`, `name`, the kind's own fields, and its secrets where it has
    any.
    """
    try:
        return DRIVERS[spec["kind"]].open(spec)
    except KeyError as exc:
        message = f"Store {spec.get('name')!r} can't be opened: {exc} is missing or unknown."
        raise Refused(message) from exc


async def try_store(spec: Mapping[str, Any], *, write_to: str = "") -> list[Step]:
    """Never raises for what the far side does, and answers within 10 s.

    write_to: a path to try writing at; empty: don't.
    """
    steps: list[Step] = []
    quick = {**spec, "retry": TRIED, "connect_s": 3.0, "silence_s": 4.0}
    with contextlib.suppress(TimeoutError):
        async with asyncio.timeout(TRIED_WITHIN_S):
            await DRIVERS[spec["kind"]].try_it(quick, write_to, steps)
            return [_that_is_over(step) for step in steps]
    words = (
        f"No answer within {TRIED_WITHIN_S:.0f} s. The other side accepts and then says nothing."
    )
    return [*steps, Step("time", False, words, "store.silent")]
