"""The demo story: the Wrenfleet chain ferry's parts, their scans and ready recipes."""
