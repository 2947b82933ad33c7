"""What a plan is worth before the first reading: the uncertainty to expect, how long it takes, and what would make it better."""

from cavrel.core.plan.forecast import Expected, Forecast, forecast

__all__ = ["Expected", "Forecast", "forecast"]
