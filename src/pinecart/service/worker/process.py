"""The worker's process, as the nursery begins it."""

from pinecart.service.config.shell import keep_turning
from pinecart.service.worker.worker_loop import Worker


def main() -> None:
    keep_turning(Worker(), 0.25)
