"""What the help of each command shows as examples; they work in the folder of the demo's data."""

from __future__ import annotations

_LOANS, _OBJECTS = "Loans=loans-2026.xlsx#Loans", "Objects=registry.sqlite#objects"
_LINK = '--link "Object no = accession"'

# By command: what follows the program's name.
EXAMPLES: dict[str, tuple[str, ...]] = {
    "look": ("look loans-2026.xlsx", "look loans-2026.xlsx#Loans", 'look "courier-logs/2026-*.csv"'),
    "propose": (f"propose {_LOANS} {_OBJECTS}",),
    "match": (
        f"match {_LOANS} {_OBJECTS} {_LINK} --ignore case,outer-spaces",
        f"match {_LOANS} {_OBJECTS} {_LINK} --type left-anti --write unmatched.csv",
    ),
    "explain": (f"explain {_LOANS} {_OBJECTS} {_LINK}",),
    "blend": (
        'blend Venues=loans-2026.xlsx#Venues Visitors=visitors.ods#Visitors --link "Venue = Venue" '
        '--measure "Visitors: sum(Visitors) as visitors"',
    ),
    "run": (
        'run "Winter loans.trellis" --to out',
        'run "Winter loans.trellis" --to out --replace --counts',
        'run "Winter loans.trellis" --to out --replace --json',
    ),
    "runs": ('runs "Winter loans.trellis"', 'runs "Winter loans.trellis" --last 3 --json'),
    "report": (
        'report "Winter loans.trellis" --html report.html',
        'report "Winter loans.trellis" --xlsx report.xlsx --without Contact --json',
    ),
    "answer": ('answer "Winter loans.trellis" report.xlsx',),
    "follow": ('follow "Winter loans.trellis" L-0151', 'follow "Winter loans.trellis" "Mill House" --json'),
    "corrections": (
        'corrections makers.corrections.csv --add "Oln, Anna=Anna Olm"',
        "corrections makers.corrections.csv --json",
    ),
    "from-sql": (
        'from-sql loans-by-region.sql loans-2026.xlsx registry.sqlite --flow "Loans by region.trellis"',
    ),
    "sql": (
        'sql "Cover.trellis"',
        'sql "Winter loans.trellis" --step "Loans with Objects" --dialect postgresql',
    ),
    "hand-off": (
        'hand-off "Winter loans.trellis" --on postgresql://keeper@registry.example/registry --sample 64',
        'hand-off "Winter loans.trellis" --on postgresql://keeper@registry.example/registry --sample 64 '
        '--write "Loan report.xlsx=loan report" --report handed-off.txt',
    ),
    "compare": (
        'compare "Winter loans.trellis" "Guarded loans.trellis"',
        'compare "Winter loans.trellis" "Guarded loans.trellis" --rows 1 --json',
    ),
    "open": ('open "Winter loans.trellis"', "open"),
    "install": ("install",),
    "uninstall": ("uninstall",),
    "completion": ("completion bash",),
    "demo": ("demo", "demo --data lantern"),
    # Where somebody begins who knows none of them.
    "": ("demo", "look loans-2026.xlsx", 'run "Winter loans.trellis" --to out'),
}
