"""Rulesets that somebody wrote, lowered to the one form of whatever decides packets."""
