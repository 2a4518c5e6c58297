"""python -m fenwind: the command line."""

import sys

from fenwind.cli import main

sys.exit(main())
