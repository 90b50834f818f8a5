"""SMB 2 and 3 (MS-SMB2)."""
