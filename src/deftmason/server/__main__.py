"""Management commands: ``python -m deftmason.server migrate``."""

import os
import sys

from django.core.management import execute_from_command_line

if __name__ == "__main__":  # a spawned helper process imports this file too
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "deftmason.server.settings")
    execute_from_command_line([sys.argv[0], *sys.argv[1:]])
