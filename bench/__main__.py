"""Where the bench starts.  Workers import a program's first module again: this one costs them nothing."""

if __name__ == "__main__":
    from run import main

    raise SystemExit(main())
