"""What a turnover is made of: the files of a take, the day as a timeline, the documents beside them."""
