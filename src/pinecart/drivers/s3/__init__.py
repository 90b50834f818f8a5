"""Buckets behind the S3 protocol."""

from pinecart.drivers.s3.store import S3Store

__all__ = ["S3Store"]
