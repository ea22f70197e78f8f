"""What is done with a day's files and values, without a database."""
