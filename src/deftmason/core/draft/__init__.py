"""The first draft: a whole model proposed from a scan, as ordinary steps."""
