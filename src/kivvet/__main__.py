"""python -m kivvet"""

from kivvet.cli.main import main

main()
