"""The clock's process, as the nursery begins it."""

from pinecart.service.clock.scheduler import Clock
from pinecart.service.config.shell import keep_turning


def main() -> None:
    keep_turning(Clock(), 1.0)
