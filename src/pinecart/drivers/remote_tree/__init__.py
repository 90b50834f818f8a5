"""Folders and files of another machine, whatever the protocol: how they are listed in order, read,
written under a hidden name, renamed and removed. A protocol supplies `RemoteFiles`; the store is
the same for all of them.
"""
