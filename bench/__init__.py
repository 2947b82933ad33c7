"""Speed, as ratios inside one run: ``./run bench``."""
