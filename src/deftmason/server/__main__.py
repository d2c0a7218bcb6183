"""Management commands: ``python -m deftmason.server migrate``."""

import os
import sys

from django.core.management import execute_from_command_line

from .parent import die_with_parent

if __name__ == "__main__":  # a spawned helper process imports this file too
    if os.environ.get("DEFT_MASON_CHILD") == "1":
        die_with_parent()
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "deftmason.server.settings")
    execute_from_command_line([sys.argv[0], *sys.argv[1:]])
