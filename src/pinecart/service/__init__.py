"""The long-running service: records, rights, the HTTP API, and the processes that
make runs happen.
"""
