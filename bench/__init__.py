"""Benchmarks: the large company, and what each job costs beside a floor measured in the same run."""
