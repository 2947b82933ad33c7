from cavrel.cli import main

main(prog_name="cavrel")
