"""Trying an object store: from the name to a written, read and deleted object of our own."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pinecart.core.errors import Busy, SignInRefused, StoreError
from pinecart.drivers.connection_steps import (
    Step,
    clock_step,
    probe_name,
    reaches,
    takes_a_file,
)
from pinecart.drivers.s3.store import S3Store

ANSWERED_WRONGLY = ("store.address-refused", "store.certificate", "store.address")
CHECKSUM_NAMES = {"crc64nvme": "CRC-64/NVME", "md5": "MD5"}


async def try_bucket_store(spec: Mapping[str, Any], write_to: str, steps: list[Step]) -> None:
    if not await reaches(spec["endpoint"], spec, steps):
        return
    try:
        store = S3Store.from_spec(spec)
    except StoreError as exc:
        steps.append(Step("connect", False, exc.message, exc.code))
        return
    try:
        await _try_signed_in(store, spec, write_to, steps)
    finally:
        await store.close()


async def _try_signed_in(
    store: S3Store, spec: Mapping[str, Any], write_to: str, steps: list[Step]
) -> None:
    prefix = write_to.encode().rstrip(b"/") + b"/" if write_to else b""
    try:
        level = await store.level(prefix)
    except StoreError as exc:
        await _clock(store, steps)
        _explain(exc, steps)
        return
    await _clock(store, steps)
    anonymous = spec.get("anonymous")
    key = "Without a key." if anonymous else f"Key id {spec['key_id']} is accepted."
    steps.append(Step("sign in", True, key))
    is_confined = bool(spec.get("root") or write_to)
    listed = "The place can be listed." if is_confined else _buckets(len(level.folders))
    steps.append(Step("list", True, listed))
    if is_confined:
        await _try_object(store, prefix, steps)
    else:
        steps.append(Step("write", None, "Not tried: name a bucket to write to."))


async def _clock(store: S3Store, steps: list[Step]) -> None:
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
        steps.append(Step("sign in", True, "The key is accepted."))
    is_told = failed == "clock" and any(step.code == code for step in steps)
    if not is_told:
        steps.append(Step(failed, False, exc.message, code))


async def _try_object(store: S3Store, prefix: bytes, steps: list[Step]) -> None:
    """Write, read and delete a small object of our own."""
    key = prefix + probe_name()

    if await takes_a_file(store, key, lambda: store.remove_probe(key), steps):
        steps.append(await _checksums(store, prefix))


async def _checksums(store: S3Store, prefix: bytes) -> Step:
    verified = CHECKSUM_NAMES.get((await store.probe(prefix)).checksum)
    if verified:
        return Step("checksums", True, f"The store verifies {verified} checksums.")
    words = "The store verifies no checksum we know: writes are compared by size."
    return Step("checksums", False, words)


def _buckets(count: int) -> str:
    return "1 bucket." if count == 1 else f"{count:,} buckets."
