"""The `pinecart` command, over the client library alone."""
