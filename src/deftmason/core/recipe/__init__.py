"""The recipe: typed steps, references that hold, replay with a cache, and the ledger of values."""
