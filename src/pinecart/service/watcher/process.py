"""The watcher's process, as the nursery begins it."""

from pinecart.service.config.shell import keep_turning
from pinecart.service.watcher.watcher import Watcher


def main() -> None:
    keep_turning(Watcher(), 0.25)
