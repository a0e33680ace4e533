"""`python -m fontanel.cli`."""

import sys

from fontanel.cli.main import main

sys.exit(main())
