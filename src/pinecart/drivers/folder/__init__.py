"""Folders of this machine."""

from pinecart.drivers.folder.store import FolderStore

__all__ = ["FolderStore"]
