"""Who may do what: people, their rights, their tokens."""
