"""Exact algebra of sets: of numbers (`spans`) and of packets (`boxes`). Knows no device."""
