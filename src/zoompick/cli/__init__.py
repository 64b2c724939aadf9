"""The command line: parse, call, show. Only here: Typer, Rich, exit codes, the terminal."""
