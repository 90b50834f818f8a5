"""Stores of other kinds: whole recorded runs, and bare loops of the same library that take the same
steps at the server (a hidden file, flushed, read back, renamed), without records.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
from pathlib import Path
from typing import Any

import asyncssh
from asyncssh.sftp import FXF_CREAT, FXF_EXCL, FXF_READ, FXF_WRITE

from bench import bare_dav, bare_hdfs, bare_objects, bare_smb
from bench.common import cpu, each, folder, landing, parts_of
from bench.ours import recorded
from pinecart.core.checksum import crc_of

WIDTH, TIME = 16, 1_700_000_000
MAKE = FXF_READ | FXF_WRITE | FXF_CREAT | FXF_EXCL


FOLDERS = {
    "webdav": bare_dav.made_folder,
    "smb": bare_smb.made_folder,
    "webhdfs": bare_hdfs.made_folder,
    "blob": bare_objects.made_bucket,
    "swift": bare_objects.made_bucket,
}


def _far(told: str, where: str) -> dict[str, Any]:
    """The spec of the store, at a folder of its own."""
    spec: dict[str, Any] = json.loads(told) | {"name": "b", "allowed": ["127.0.0.0/8"]}
    if makes := FOLDERS.get(spec["kind"]):
        return makes(spec, where)
    spec["root"] = f"{spec['root']}/{where}"
    Path(spec["root"]).mkdir(exist_ok=True)
    return spec


def _there(told: str, path: Path) -> dict[str, Any]:
    """The spec of the store that has these files."""
    spec: dict[str, Any] = json.loads(told) | {"name": "a", "allowed": ["127.0.0.0/8"]}
    if spec["kind"] == "webdav":
        return spec | {"url": f"{spec['url'].rpartition('/')[0]}/{path.name}"}
    below = {"sftp": str(path), "webhdfs": f"/{path.name}"}
    filled = spec.get("filled", "") + path.name
    return spec | {"root": below.get(spec["kind"], filled)}


def engine_kind_put(told: str, path: Path) -> float:
    far = _far(told, f"ours-{os.getpid()}")
    return recorded(folder(path), far, {"from": "pine://a/", "to": "pine://b/"})[0]


def engine_kind_get(told: str, path: Path) -> float:
    far = _there(told, path)
    with landing(path) as there:
        near = folder(Path(there)) | {"name": "b"}
        return recorded(far, near, {"from": "pine://a/", "to": "pine://b/"})[0]


@contextlib.asynccontextmanager
async def _signed_in(spec: dict[str, Any]) -> Any:
    key = asyncssh.import_private_key(spec["private_key"])
    async with asyncssh.connect(
        spec["host"],
        int(spec["port"]),
        config=None,
        known_hosts=None,
        username=spec["user"],
        client_keys=[key],
        agent_path=None,
        encryption_algs=["aes128-gcm@openssh.com"],
        compression_algs=None,
    ) as connection:
        yield await connection.start_sftp_client(path_encoding=None)


def bare_sftp_put(told: str, path: Path) -> float:
    spec = _far(told, f"bare-{os.getpid()}")
    root, attrs = spec["root"].encode(), asyncssh.SFTPAttrs(atime=TIME, mtime=TIME)

    async def main() -> float:
        async with _signed_in(spec) as sftp:
            began = cpu()

            async def put(file: Path) -> None:
                hidden, name = root + b"/." + os.fsencode(file.name), os.fsencode(file.name)
                made = await sftp.open(hidden, MAKE, encoding=None)

                async def piece(item: tuple[Path, int, int]) -> None:
                    with file.open("rb") as near:
                        body = os.pread(near.fileno(), item[2], item[1])
                    await made.write(body, item[1])
                    assert crc_of(await made.read(item[2], item[1])) == crc_of(body)

                await each(parts_of([file]), piece, 4)
                await made.fsync()
                await made.setstat(attrs)
                await made.close()
                await sftp.rename(hidden, root + b"/" + name)

            await each(sorted(path.iterdir()), put, WIDTH)
            return cpu() - began

    return asyncio.run(main())


def bare_sftp_get(told: str, path: Path) -> float:
    spec = json.loads(told)
    root = os.fsencode(path)

    async def main() -> float:
        with landing(path) as there:
            async with _signed_in(spec) as sftp:
                began = cpu()

                async def get(file: Path) -> None:
                    name = root + b"/" + os.fsencode(file.name)
                    made = await sftp.open(name, FXF_READ, encoding=None)
                    await made.stat()
                    fd = os.open(f"{there}/{file.name}", os.O_WRONLY | os.O_CREAT, 0o600)

                    async def piece(item: tuple[Path, int, int]) -> None:
                        body = await made.read(item[2], item[1])
                        crc_of(body)
                        os.pwrite(fd, body, item[1])

                    await each(parts_of([file]), piece, 4)
                    await asyncio.to_thread(os.fsync, fd)
                    os.close(fd)
                    await made.close()
                    await sftp.lstat(name)

                await each(sorted(path.iterdir()), get, WIDTH)
                return cpu() - began

    return asyncio.run(main())


def bare_webdav_put(told: str, path: Path) -> float:
    return bare_dav.put_all(_far(told, f"bare-{os.getpid()}"), sorted(path.iterdir()))


def bare_webdav_get(told: str, path: Path) -> float:
    return bare_dav.get_all(_there(told, path), path)


def bare_smb_put(told: str, path: Path) -> float:
    return bare_smb.put_all(_far(told, f"bare-{os.getpid()}"), sorted(path.iterdir()))


def bare_smb_get(told: str, path: Path) -> float:
    return bare_smb.get_all(_there(told, path), path)


def bare_webhdfs_put(told: str, path: Path) -> float:
    return bare_hdfs.put_all(_far(told, f"bare-{os.getpid()}"), sorted(path.iterdir()))


def bare_webhdfs_get(told: str, path: Path) -> float:
    return bare_hdfs.get_all(_there(told, path), path)


def bare_blob_put(told: str, path: Path) -> float:
    return bare_objects.put_all(_far(told, f"bare-{os.getpid()}"), sorted(path.iterdir()))


def bare_blob_get(told: str, path: Path) -> float:
    return bare_objects.get_all(_there(told, path), path)


bare_swift_put, bare_swift_get = bare_blob_put, bare_blob_get
