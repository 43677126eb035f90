"""What all tests share."""

from __future__ import annotations

import os

from hypothesis import settings

# Runs on a developer's machine try new cases every time; a submission is judged by the same ones.
settings.register_profile("judged", derandomize=True)
if os.environ.get("CI") == "true":
    settings.load_profile("judged")
