"""Journals of what runs set aside, and of what they began to upload."""
