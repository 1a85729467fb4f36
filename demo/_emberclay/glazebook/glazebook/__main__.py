from glazebook import main

main()
