"""Django's command line: `python -m ersatz.site.manage COMMAND`."""

import os
import sys
from pathlib import Path

from django.core.management import execute_from_command_line

from ersatz.site.private import keep_private
from ersatz.site.together import end_with_starter

if __name__ == "__main__":
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "ersatz.site.settings")
    keep_private(Path(os.environ.get("ERSATZ_HOME", "var")))
    end_with_starter()
    execute_from_command_line(sys.argv)
