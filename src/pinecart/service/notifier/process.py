"""The notifier's process, as the nursery begins it."""

from pinecart.service.config.shell import Rest, keep_turning
from pinecart.service.notifier.notifier import Notifier

REST_S = 3.0  # what is due by time alone may be so late


def main() -> None:
    keep_turning(Notifier(), 1.0, Rest(REST_S))
