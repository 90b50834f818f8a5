"""What changes runs: their life, the records they write, what belongs to the whole database."""
