"""What a folder store can do: which names are one there, and how finely it keeps times."""

from __future__ import annotations

import os

from pinecart.core.entries import Entry, same
from pinecart.core.folding import EXACT
from pinecart.core.ports import Abilities
from pinecart.drivers.file_names import HiddenNames, parts_of
from pinecart.drivers.folder import names
from pinecart.drivers.folder.root import FolderRoot
from pinecart.drivers.folder.walking import some_names
from pinecart.drivers.folder.writing import entry_of


class FolderAbilities:
    """Asked once: by looking, or by names of our own where they may be written."""

    def __init__(self, root: FolderRoot, hidden: HiddenNames) -> None:
        self._root = root
        self._hidden = hidden
        self._habits: names.Habits | None = None

    @property
    def are_known(self) -> bool:
        return self._habits is not None

    def able(self, prefix: bytes, *, may_write: bool) -> Abilities:
        if self._habits is None or (may_write and not self._habits.asked):
            if may_write:
                self._habits = self._asked(parts_of(prefix))
            else:
                self._habits = self._seen(prefix)
        folding, step_ns, _ = self._habits
        return Abilities(
            create_only=True,
            has_folders=True,
            keeps_times=True,
            at_hand=True,
            folding=folding,
            time_step_ns=step_ns,
        )

    def _asked(self, parts: tuple[bytes, ...]) -> names.Habits:
        """By two names of our own in the folder, or in the nearest one above that is there."""
        try:
            with self._root.folder(parts) as fd:
                return names.by_scratch(fd, self._hidden.next().removesuffix(b".part") + b"-")
        except OSError as exc:
            if parts and isinstance(exc, FileNotFoundError):
                return self._asked(parts[:-1])
            return self._seen(b"/".join(parts))._replace(
                asked=True
            )  # nothing can be written there: the names tell what they can

    def _seen(self, prefix: bytes) -> names.Habits:
        return names.Habits(names.by_names(some_names(self._root, parts_of(prefix))))

    def same(self, found: os.stat_result, expected: Entry) -> bool:
        """The very file.

        Where names fold, some file systems give each spelling of a name an inode of its own.
        """
        if self._habits and self._habits.folding != EXACT:
            expected = expected._replace(inode=found.st_ino)
        return same(entry_of(b"", found), expected)
