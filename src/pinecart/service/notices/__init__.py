"""What people are told of, whom, and whether it has reached them."""
