"""Trying a store of buckets: from signing in to a written, read and deleted object of our own."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import partial
from typing import Any

from pinecart.core.errors import Busy, SignInRefused, StoreError
from pinecart.drivers.bucketed.store import BucketStore
from pinecart.drivers.connection_steps import (
    Step,
    clock_step,
    probe_name,
    reaches,
    takes_a_file,
)

ANSWERED_WRONGLY = ("store.address-refused", "store.certificate", "store.address")
CHECKSUM_NAMES = {"crc64nvme": "CRC-64/NVME", "md5": "MD5"}
Opens = Callable[[Mapping[str, Any]], BucketStore]


class BucketCheck:
    """Of a spec: opens: the store.   address: where it is reached.   let_in: said once the
    credentials were accepted.   bucket: what such a thing is called there.
    """

    def __init__(
        self,
        opens: Opens,
        address: Callable[[Mapping[str, Any]], str],
        let_in: Callable[[Mapping[str, Any]], str],
        bucket: str = "bucket",
    ) -> None:
        self._opens = opens
        self._address = address
        self._let_in = let_in
        self._bucket = bucket

    async def __call__(self, spec: Mapping[str, Any], write_to: str, steps: list[Step]) -> None:
        """From the network up to the object: each step is told, and the first that fails is the
        last.
        """
        if not await reaches(self._address(spec), spec, steps):
            return
        try:
            store = self._opens(spec)
        except StoreError as exc:
            steps.append(Step("connect", False, exc.message, exc.code))
            return
        try:
            await self._signed_in(store, spec, write_to, steps)
        finally:
            await store.close()

    async def _signed_in(
        self, store: BucketStore, spec: Mapping[str, Any], write_to: str, steps: list[Step]
    ) -> None:
        prefix = write_to.encode().rstrip(b"/") + b"/" if write_to else b""
        is_confined = bool(spec.get("root") or write_to)
        try:
            listed = await self._listed(store, prefix, is_confined=is_confined)
        except StoreError as exc:
            await _clock(store, steps)
            _explain(exc, steps)
            return
        await _clock(store, steps)
        steps.append(Step("sign in", True, self._let_in(spec)))
        steps.append(Step("list", True, listed))
        if is_confined:
            await _try_object(store, prefix, steps)
        else:
            words = f"Not tried: name a {self._bucket} to write to."
            steps.append(Step("write", None, words))

    async def _listed(self, store: BucketStore, prefix: bytes, *, is_confined: bool) -> str:
        """A bucket may hold millions: no more of it is asked for than whether it can be listed."""
        if is_confined:
            await store.check_place(prefix)
            return "The place can be listed."
        count = len((await store.level(b"")).folders)
        return f"{count:,} {self._bucket}{'' if count == 1 else 's'}."


async def _clock(store: BucketStore, steps: list[Step]) -> None:
    """By the Date that every answer carries."""
    behind = await store.clock_difference_s()
    if behind is not None:
        step = clock_step(behind)
        steps.append(step)


def _explain(exc: StoreError, steps: list[Step]) -> None:
    """Which step a refused listing belongs to."""
    code = exc.code
    if isinstance(exc, Busy) or code in ANSWERED_WRONGLY:
        failed = "answer"
    elif code == "store.clock":
        failed = "clock"
    elif isinstance(exc, SignInRefused) or code == "store.region":
        failed = "sign in"
    else:
        failed = "list"
        steps.append(Step("sign in", True, "The credentials are accepted."))
    is_told = failed == "clock" and any(step.code == code for step in steps)
    if not is_told:
        steps.append(Step(failed, False, exc.message, code))


async def _try_object(store: BucketStore, prefix: bytes, steps: list[Step]) -> None:
    """Write, read and delete a small object of our own."""
    key = prefix + probe_name()
    take_away = partial(store.remove_probe, key)
    if await takes_a_file(store, key, take_away, steps):
        found = await _checksums(store, prefix)
        steps.append(found)


async def _checksums(store: BucketStore, prefix: bytes) -> Step:
    """A store that verifies none isn't refused: what is written there is known by its size, and
    each proof says so.
    """
    verified = CHECKSUM_NAMES.get((await store.probe(prefix)).checksum)
    if verified:
        return Step("checksums", True, f"The store verifies {verified} checksums.")
    words = "The store verifies no checksum we know: writes are compared by size."
    return Step("checksums", False, words)
