"""The notifier's process, as the nursery begins it."""

from pinecart.service.config.shell import keep_turning
from pinecart.service.notifier.notifier import Notifier


def main() -> None:
    keep_turning(Notifier(), 1.0)
