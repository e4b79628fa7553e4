"""The model: laws of each phase, fitted to trials, forecast with intervals, priced and ranked."""
