"""WebHDFS: a distributed file system over HTTP."""
