"""The kinds of step a job's results are made of, one module a kind; `kinds.py` lists them."""
