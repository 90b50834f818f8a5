"""The worker's process, as the nursery begins it."""

from pinecart.service.config.shell import Rest, keep_turning
from pinecart.service.worker.worker_loop import Worker

REST_S = 2.0  # free disk, and runs whose process died, are looked at so often


def main() -> None:
    worker = Worker()
    keep_turning(worker, 0.15, Rest(REST_S, worker.has_ended_runs))
