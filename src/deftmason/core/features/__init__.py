"""Features read from the scan: what the scan says about heights, draft and fillet radii."""
