from kovel.cli import main

main()
