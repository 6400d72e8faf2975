"""`python -m ersatz`."""

import sys

from ersatz.cli import main

sys.exit(main())
