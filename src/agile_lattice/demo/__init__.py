"""Demo data: the intent of Saltmarsh Ferries, and what its devices really have.

`applied` and `a-year-later` were captured from real systems by `scripts/capture_demo.py`.
"""
