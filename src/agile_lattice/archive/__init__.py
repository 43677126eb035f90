"""Captures over time: a git repository in which every round of captures is one commit."""
