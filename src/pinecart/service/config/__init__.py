"""Settings, the state folder, errors as answers, and addresses."""
