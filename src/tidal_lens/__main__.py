"""``python -m tidal_lens``."""

import sys

from tidal_lens.cli import main

sys.exit(main())
