"""Runs, previews and audits: their life, their records, the ledger."""
