"""``python -m deftmason.cli`` is `mason`."""

from .main import run

if __name__ == "__main__":
    run()
