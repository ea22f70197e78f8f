"""`python -m vesk`."""

from vesk.cli.main import main

raise SystemExit(main())
