"""What is made up: the demo job with its known truth. Every mark, person, date and value in here is
invented."""
