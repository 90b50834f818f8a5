"""WebDAV (RFC 4918)."""
