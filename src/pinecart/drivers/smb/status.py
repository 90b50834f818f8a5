"""What a server's refusals mean, as errors of ours (MS-ERREF 2.3.1)."""

from __future__ import annotations

from pinecart.core.errors import Busy, Missing, Refused, StoreError, Taken

NO_MORE_FILES = 0x80000006
END_OF_FILE = 0xC0000011
BY_STATUS: dict[int, tuple[type[StoreError], str, str]] = {
    0xC0000034: (Missing, "store.missing", "There is no such file or folder."),
    0xC000003A: (Missing, "store.missing", "The folder that it lies in is not there."),
    0xC000000F: (Missing, "store.missing", "There is no such file or folder."),
    0xC0000103: (Missing, "store.missing", "It is no folder."),
    0x8000002D: (Missing, "store.missing", "A link is on the way, which is not followed."),
    0xC0000035: (Taken, "store.not-as-planned", "Something is there."),
    0xC00000BA: (Taken, "store.not-as-planned", "A folder is there."),
    0xC0000043: (Busy, "in-use", "Somebody holds it open."),
    0xC0000054: (Busy, "in-use", "Somebody holds a part of it locked."),
    0xC0000055: (Busy, "in-use", "Somebody holds a part of it locked."),
    0xC0000056: (Busy, "in-use", "It is going away, and somebody holds it open."),
    0xC000009A: (Busy, "store.busy", "The server is out of means."),
    0xC0000205: (Busy, "store.busy", "The server is out of means."),
    0xC00000BF: (Busy, "store.busy", "The network there is busy."),
    0xC00000C4: (Busy, "store.busy", "The server met a fault of its network."),
    0xC00000D0: (Busy, "store.busy", "The server takes no more for now."),
    0xC0000120: (Busy, "store.busy", "The server gave it up."),
    0xC0000185: (Busy, "store.busy", "The server's disk gave an error."),
    0xC000011F: (Busy, "store.busy", "The server opens no more files."),
    0xC00000B5: (Busy, "store.busy", "The server did not get it done in time."),
    0xC0000022: (Refused, "store.refused", "The account may not do that. Grant it the right."),
    0xC0000121: (Refused, "store.refused", "It is marked as one that stays."),
    0xC00000A2: (Refused, "store.refused", "It can only be read."),
    0xC000007F: (Refused, "store.full", "The disk is full. Make room."),
    0xC0000044: (Refused, "store.full", "The quota is used up. Make room."),
    0xC0000904: (Refused, "store.too-large", "The file is larger than the share takes."),
    0xC0000267: (Refused, "store.archived", "It lies in an archive. Have it brought back first."),
    0xC0000906: (Refused, "store.refused", "The server's virus scanner holds it back."),
    0xC0000907: (Refused, "store.refused", "The server's virus scanner took it away."),
    0xC0000257: (
        Refused,
        "store.elsewhere",
        "It lies on another server, which this one only names. Add that one as a store.",
    ),
    0xC0000101: (Refused, "store.not-empty", "The folder is not empty."),
    0xC0000033: (Refused, "unsafe-name", "The share can't hold this name. Rename the file."),
    0xC0000106: (Refused, "unsafe-name", "The name is too long for the share. Rename the file."),
}
OVER = frozenset(  # the session, the share or the handle is gone: the line is opened anew
    (0xC0000203, 0xC00000C9, 0xC000035C, 0xC000020C, 0xC000020D, 0xC0000128, 0xC0000008)
)


# Why an account can't sign in, whatever the password.
ACCOUNTS = {
    0xC000006E: "it is restricted",
    0xC000006F: "it may not at this hour",
    0xC0000071: "its password has expired",
    0xC0000072: "it is disabled",
    0xC0000193: "it has expired",
    0xC0000224: "its password must be changed first",
    0xC0000234: "it is locked",
    0xC000015B: "it may not over the network",
}


def error_from(status: int, said: str, *, what: str) -> StoreError:
    """what: location, for the message.   said: how the server, or the library, words it."""
    if status in OVER:
        message = f"{what}: the session is over. It is tried again on a new one."
        return Busy(message, code="store.cut")
    known = BY_STATUS.get(status)
    if known is None:
        return Refused(f"{what}: the server refused ({said}).", code="store.failed")
    kind, code, words = known
    if kind is Busy:
        words += " It is tried again."
    return kind(f"{what}: {words}", code=code)
