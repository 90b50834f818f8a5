"""Is everything well? The first page, from what the other apps know; health; the demo's button."""
