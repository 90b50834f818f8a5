"""Bare loops over SMB, by the same library, that take the same steps without records: a hidden
file, flushed, read back, renamed.
"""

from __future__ import annotations

import os
import uuid
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

from smbprotocol.connection import Connection
from smbprotocol.file_info import FileBasicInformation, FileRenameInformation
from smbprotocol.open import (
    CreateDisposition,
    CreateOptions,
    FileAttributes,
    FilePipePrinterAccessMask,
    ImpersonationLevel,
    Open,
    SMB2SetInfoRequest,
)
from smbprotocol.session import Session
from smbprotocol.tree import TreeConnect

from bench.common import MIB, PART, cpu, landing
from pinecart.core.checksum import crc_of

WIDTH, TIME = 12, 133_444_736_000_000_000
_Mask = FilePipePrinterAccessMask


class Bare:
    def __init__(self, spec: dict[str, Any]) -> None:
        self.connection = Connection(uuid.uuid4(), spec["host"], int(spec["port"]))
        self.connection.connect()
        session = Session(
            self.connection,
            spec["user"],
            spec["password"],
            require_encryption=False,
            auth_protocol="ntlm",
        )
        session.connect()
        self.connection.echo(sid=session.session_id, credit_request=512)
        self.tree = TreeConnect(session, rf"\\{spec['host']}\{spec['share']}")
        self.tree.connect()
        self.root = spec["root"].replace("/", "\\")

    def opened(self, name: str, disposition: int, options: int, access: int) -> Open:
        handle = Open(self.tree, rf"{self.root}\{name}" if name else self.root)
        handle.create(
            ImpersonationLevel.Impersonation,
            access,
            FileAttributes.FILE_ATTRIBUTE_NORMAL if name else 0,
            7,
            disposition,
            options,
        )
        return handle

    def set(self, handle: Open, told: Any) -> None:
        asked = SMB2SetInfoRequest()
        asked["info_type"], asked["file_info_class"] = told.INFO_TYPE, told.INFO_CLASS
        asked["file_id"], asked["buffer"] = handle.file_id, told
        session = self.tree.session.session_id
        self.connection.receive(self.connection.send(asked, session, self.tree.tree_connect_id))

    def put(self, file: Path) -> None:
        size = file.stat().st_size
        made = CreateDisposition.FILE_CREATE
        plain = CreateOptions.FILE_NON_DIRECTORY_FILE
        access = _Mask.FILE_READ_DATA | _Mask.FILE_WRITE_DATA | _Mask.FILE_WRITE_ATTRIBUTES
        handle = self.opened(f".{file.name}", made, plain, access | _Mask.DELETE)
        with file.open("rb") as near:
            for start in range(0, size, PART):
                body = near.read(PART)
                for at in range(0, len(body), MIB):
                    handle.write(body[at : at + MIB], start + at)
                back = [
                    handle.read(start + at, min(MIB, len(body) - at))
                    for at in range(0, len(body), MIB)
                ]
                assert crc_of(b"".join(back)) == crc_of(body)
        handle.flush()
        told = FileBasicInformation()
        told["last_write_time"] = TIME
        self.set(handle, told)
        handle.close()
        named = FileRenameInformation()
        named["replace_if_exists"] = False
        named["file_name"] = rf"{self.root}\{file.name}"
        again = self.opened(f".{file.name}", CreateDisposition.FILE_OPEN, 0, _Mask.DELETE)
        self.set(again, named)
        again.close()

    def get(self, file: Path, there: str) -> None:
        plain = CreateOptions.FILE_NON_DIRECTORY_FILE
        handle = self.opened(file.name, CreateDisposition.FILE_OPEN, plain, _Mask.FILE_READ_DATA)
        fd = os.open(f"{there}/{file.name}", os.O_WRONLY | os.O_CREAT, 0o600)
        for at in range(0, handle.end_of_file, MIB):
            body = handle.read(at, min(MIB, handle.end_of_file - at))
            crc_of(body)
            os.pwrite(fd, body, at)
        os.fsync(fd)
        os.close(fd)
        handle.close()
        self.opened(file.name, CreateDisposition.FILE_OPEN, 0, 0x80).close()


def made_folder(spec: dict[str, Any], where: str) -> dict[str, Any]:
    bare = Bare(spec | {"root": f"{spec['root']}/{where}"})
    folder = CreateOptions.FILE_DIRECTORY_FILE
    bare.opened("", CreateDisposition.FILE_OPEN_IF, folder, 0x80).close()
    bare.connection.disconnect()
    return spec | {"root": f"{spec['root']}/{where}"}


def put_all(spec: dict[str, Any], files: list[Path]) -> float:
    bare, began = Bare(spec), cpu()
    with ThreadPoolExecutor(WIDTH) as threads:
        list(threads.map(bare.put, files))
    used = cpu() - began
    bare.connection.disconnect()
    return used


def get_all(spec: dict[str, Any], path: Path) -> float:
    with landing(path) as there:
        bare, began = Bare(spec), cpu()
        with ThreadPoolExecutor(WIDTH) as threads:
            list(threads.map(lambda file: bare.get(file, there), sorted(path.iterdir())))
        used = cpu() - began
        bare.connection.disconnect()
        return used
