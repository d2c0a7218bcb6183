"""What engines may be asked for. Each module's functions take the `Desk` and plain data, and give plain data."""

from . import bringing, drafting, drawing, giving, laying, looking, marking, proving, sketching, solving  # noqa: F401
