from kovel.cli import main

main(prog_name="kovel")
