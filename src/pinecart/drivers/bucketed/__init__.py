"""What stores of buckets and objects have in common, whatever the protocol."""
