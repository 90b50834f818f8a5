"""What there is to fill in: the console's forms and the command line's options are made from it."""
