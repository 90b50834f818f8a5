"""What those who write and remove in a remote tree work with."""

from __future__ import annotations

from typing import NamedTuple

from pinecart.drivers.busy_retries import BusyRetries
from pinecart.drivers.remote_tree.folders import TreeFolders
from pinecart.drivers.remote_tree.links import TreeLinks
from pinecart.drivers.remote_tree.names import TreeNames
from pinecart.drivers.remote_tree.reading import TreeReader
from pinecart.drivers.remote_tree.remote_files import RemoteFiles
from pinecart.drivers.remote_tree.renaming import CertainRenames


class Tree(NamedTuple):
    """One store's."""

    files: RemoteFiles
    folders: TreeFolders
    links: TreeLinks
    reader: TreeReader
    names: TreeNames
    renames: CertainRenames
    retries: BusyRetries
