"""OpenStack Swift, by its own protocol: accounts, containers and objects."""
