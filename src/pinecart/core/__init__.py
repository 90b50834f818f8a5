"""What decides: pure functions and values, no clock, no disk, no network. Everything else acts on
its answers.
"""
