"""What is asked of the kernel that file systems answer in different ways. A test hands in another
one.
"""

from __future__ import annotations

import contextlib
import ctypes
import errno
import os
import time
from collections.abc import Iterator

from pinecart.core.checksum import Crc64

LIBC = ctypes.CDLL(None, use_errno=True)
READ = 256 << 10  # at once, for its checksum: so much stays in the processor's own memory
FOLDER_FLAGS = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
_NOREPLACE = 1
_BEGUN, _WRITTEN = 2, 1 | 2 | 4  # sync_file_range: write; wait before, write, wait after
# Their syncfs writes all data to the disk; one in user space, or on another machine, hears of fsync
# only (statfs(2), f_type): ext, xfs, btrfs, tmpfs, f2fs, zfs, bcachefs.
_FLUSHED_WHOLE = {
    0xEF53,
    0x58465342,
    0x9123683E,
    0x01021994,
    0xF2F52010,
    0x2FC12FC1,
    0xCA451A4E,
}
# Since Linux 5.8 syncfs tells of writes that failed; before, each file has to be asked.
_FLUSH_ALL_TELLS = tuple(int(n) for n in os.uname().release.split("-")[0].split(".")[:2]) >= (5, 8)


def _last_error() -> OSError:
    number = ctypes.get_errno()
    return OSError(number, os.strerror(number))


class Kernel:
    """segment: bytes of a large file that are copied before they are read back."""

    segment = 32 << 20

    def now(self) -> float:
        """Seconds, from nowhere in particular."""
        return time.perf_counter()

    # --- flushing

    def flush(self, fd: int) -> None:
        """A file, or a folder's names."""
        os.fsync(fd)

    def flushes_whole(self, fd: int) -> bool:
        """Whether one call flushes its whole file system, and tells of what failed."""
        found = ctypes.create_string_buffer(256)
        if LIBC.fstatfs(fd, found):
            raise _last_error()
        first = ctypes.c_long.from_buffer(found)
        kind = int(first.value)
        return _FLUSH_ALL_TELLS and kind in _FLUSHED_WHOLE

    def flush_whole(self, fd: int) -> None:
        """The file system that `fd` lies on."""
        if LIBC.syncfs(fd):
            raise _last_error()

    def begin_flush(self, fd: int, at: int, size: int) -> None:
        LIBC.sync_file_range(fd, ctypes.c_int64(at), ctypes.c_int64(size), _BEGUN)

    def end_flush(self, fd: int, at: int, size: int) -> None:
        if LIBC.sync_file_range(fd, ctypes.c_int64(at), ctypes.c_int64(size), _WRITTEN):
            os.fsync(fd)

    # --- reading and copying

    def read(self, fd: int, most: int) -> bytes:
        return os.read(fd, most)

    def read_at_hand(self, fd: int, room: bytearray) -> int:
        """Only what lies in memory. Raises OSError if it doesn't."""
        return os.preadv(fd, [room], 0, os.RWF_NOWAIT)

    def copy_range(self, source: int, target: int, at: int, size: int) -> int:
        """By the kernel; how many bytes were."""
        return os.copy_file_range(source, target, size, at, at)

    def crc_of_range(self, fd: int, at: int, size: int) -> str:
        """Short where the file is: the caller compares."""
        crc = Crc64()
        end = at + size
        while at < end:
            wanted = min(READ, end - at)
            chunk = os.pread(fd, wanted, at)
            crc.add(chunk)
            at += len(chunk)
            if len(chunk) < wanted:
                break
        return crc.text

    # --- names

    def open_folder(self, name: bytes, parent: int) -> int:
        return os.open(name, FOLDER_FLAGS, dir_fd=parent)

    def entries(self, fd: int) -> contextlib.AbstractContextManager[Iterator[os.DirEntry[str]]]:
        """What is in a folder, in no order."""
        return os.scandir(fd)

    def replace(self, folder: int, name: bytes, new: bytes) -> None:
        os.replace(name, new, src_dir_fd=folder, dst_dir_fd=folder)

    def set_time(self, fd: int, ns: int) -> None:
        os.utime(fd, ns=(ns, ns))

    def rename_if_absent(self, from_dir: int, name: bytes, to_dir: int, new: bytes) -> bool:
        """rename that never replaces (Linux renameat2); where a file system lacks it, a hard link
        does the same. Where it lacks both, the name is looked at just before: then False.
        """
        if LIBC.renameat2(from_dir, name, to_dir, new, _NOREPLACE) == 0:
            return True
        error = _last_error()
        if error.errno not in (errno.EINVAL, errno.ENOSYS):
            raise error
        try:
            os.link(name, new, src_dir_fd=from_dir, dst_dir_fd=to_dir)
        except OSError as exc:
            if exc.errno not in (errno.EPERM, errno.EOPNOTSUPP, errno.ENOSYS, errno.EMLINK):
                raise
            with contextlib.suppress(FileNotFoundError):
                os.stat(new, dir_fd=to_dir, follow_symlinks=False)
                raise OSError(errno.EEXIST, os.strerror(errno.EEXIST)) from None
            os.rename(name, new, src_dir_fd=from_dir, dst_dir_fd=to_dir)
            return False
        os.unlink(name, dir_fd=from_dir)
        return True


KERNEL = Kernel()
