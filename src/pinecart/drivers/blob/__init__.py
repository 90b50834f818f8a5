"""Blob storage: accounts, containers and blobs, by its REST protocol."""
