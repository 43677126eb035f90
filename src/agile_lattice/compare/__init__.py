"""Differences between intent and device, and what they mean."""
