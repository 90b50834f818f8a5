"""What the kernel tells of changes in a folder: only that there were some. What changed is found
by looking.
"""

from __future__ import annotations

import logging
import threading
from pathlib import Path

from watchfiles import watch

from pinecart.service.config.state import network_file_system

log = logging.getLogger("pinecart.service")
HEARD_WITHIN_MS = 500


class FolderNotices:
    """Of one folder and all below it, in a thread of its own.

    why_not: why the kernel tells nothing, in words; empty: it tells.   is_absent: the folder was
    not there.
    """

    def __init__(self, folder: Path, heard: threading.Event) -> None:
        self.is_absent = not folder.is_dir()
        if self.is_absent:
            self.why_not = "the folder isn't there"
        else:
            self.why_not = _why_not(folder)
        self._folder = folder
        self._heard = heard
        self._stop = threading.Event()
        if not self.why_not:
            threading.Thread(target=self._listen, daemon=True).start()

    def _listen(self) -> None:
        try:
            for found in watch(
                self._folder,
                watch_filter=None,
                debounce=HEARD_WITHIN_MS,
                step=50,
                stop_event=self._stop,
                rust_timeout=HEARD_WITHIN_MS,
                yield_on_timeout=True,
                raise_interrupt=False,
                ignore_permission_denied=True,
            ):
                if found:
                    self._heard.set()
        except Exception as exc:  # noqa: BLE001 - the library's own, of the system's limits
            self.why_not = f"the system can't tell of changes here ({exc})"
            log.warning("%s is not watched by the system: %s", self._folder, exc)
        finally:
            self._heard.set()

    def close(self) -> None:
        self._stop.set()


def _why_not(folder: Path) -> str:
    where = network_file_system(folder, Path("/proc/self/mountinfo").read_text())
    if where:
        return f"it lies on a network file system, {where}"
    return ""
