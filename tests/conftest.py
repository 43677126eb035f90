"""What all tests share."""

from __future__ import annotations

import os
import tempfile

from hypothesis import Phase, settings

os.environ["XDG_CACHE_HOME"] = tempfile.mkdtemp()  # what is kept for the next run is no developer's business

# Runs on a developer's machine try new cases every time; a submission is judged by the same ones, and what fails there
# is made smaller where somebody looks at it: that may take minutes.
settings.register_profile(
    "judged", derandomize=True, phases=[each for each in Phase if each not in (Phase.shrink, Phase.explain)]
)
# For a first look: what fails is shown as it was found.
settings.register_profile("quick", phases=[Phase.explicit, Phase.reuse, Phase.generate])
settings.load_profile("judged" if os.environ.get("CI") == "true" else os.environ.get("HYPOTHESIS_PROFILE", "default"))
