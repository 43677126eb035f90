"""Programs that decide packets: chains of entries at hooks, in order of priority, and what becomes of packets there.

A program knows no device and no syntax. What an intent means and what somebody wrote are both told as one.
"""
