"""What starts jobs besides the clock: what is watched for changes, and what came of it."""
