"""`python -m yellow_ember` is the command `yellow-ember`."""

from yellow_ember.cli import main

if __name__ == "__main__":
    raise SystemExit(main())
