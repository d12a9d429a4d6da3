"""Two or three examples of every command, for its help. A test parses each of them."""

EXAMPLES: dict[str, tuple[str, ...]] = {
    "demo": ("demo", "demo --chapter host", "demo --into ./saltmarsh --keep"),
    "start": (
        "start",
        "start pipeline-publishes ./site --name project=project/home/site",
        "start --like site --for site-trial --into ./site",
    ),
    "check": (
        "check",
        "check --compared-with HEAD",
        "check --compared-with main --fail-on-gain delete --format markdown",
    ),
    "card": (
        "card build/identity/publisher",
        "card page-writing",
        "card gauges/group/northern-collectors --format json",
    ),
    "trace": (
        "trace --journey publish-from-main",
        "trace write bulletin/bucket/public-pages/object/a.html --from bulletin/identity/page-writer",
        "trace --journey publish-from-a-side-branch --write 1",
    ),
    "reach": (
        "reach --to bulletin/bucket/public-pages",
        "reach --from build/identity/publisher --by-change",
        "reach --survey live.jsonl --to home/cluster/main/namespace/web/secret/db --format csv",
    ),
    "admit": (
        "admit build/identity/publisher",
        "admit build/identity/publisher --token token.jwt",
        "admit --from-token token.jwt",
    ),
    "survey": (
        "survey --out live.jsonl",
        "survey --cluster home/cluster/main --out live.jsonl",
        "survey --cluster surge/cluster/grid --since live.jsonl --out live.jsonl",
    ),
    "propose": ("propose", "propose --out proposal.json", "propose --expect-none --quiet"),
    "enact": ("enact proposal.json", "enact --resume", "enact --undo 3"),
    "handoff": (
        "handoff @harbourline --by 2027-02-01 --out for-harbourline.json",
        "handoff --received from-saltmarsh.json",
        "handoff --received from-saltmarsh.json --write",
    ),
    "prove": ("prove", "prove publish-from-main --junit proof.xml", "prove --near-misses --expiry"),
    "lend": (
        "lend build/identity/publisher -- ./publish.sh",
        "lend gauges/identity/collector --endpoint -- ./collect.sh",
        "lend surge/cluster/grid/namespace/nowcast/identity/runner --write-kubeconfig runner.yaml",
    ),
    "sign-in": ("sign-in", "sign-in --organisation saltmarsh"),
    "sign-out": ("sign-out", "sign-out --organisation saltmarsh"),
    "whoami": ("whoami", "whoami --format json"),
    "credential": (
        "credential",
        "credential tape --of gauges/identity/archiver --because 'the tape robot' --for 7d --into tape.key",
        "credential tape --of gauges/identity/archiver --revoke",
    ),
    "sweep": ("sweep --ask --fail-on high", "sweep --usage usage.jsonl --csv findings.csv", "sweep --in ../pages"),
    "trim": ("trim --usage usage.jsonl", "trim --usage usage.parquet --window 180d --write"),
    "retire": ("retire", "retire --plan --yes", "retire --next --idle 30d --yes"),
    "calendar": ("calendar", "calendar --within 30d", "calendar --ics ends.ics"),
    "cutoff": (
        "cutoff @saltmarsh/identity/maren",
        "cutoff gauges/host/bench --yes --because stolen",
        "cutoff @saltmarsh/identity/maren --check",
    ),
    "connections": ("connections", "connections try"),
    "sessions": ("sessions", "sessions gauges/identity/calibrator"),
    "help": ("help", "help conditions", "help verdicts"),
    "lab start": ("lab start", "lab start --foreground"),
    "lab stop": ("lab stop", "lab stop --clean"),
    "lab join": ("lab join ../saltmarsh", "lab join ../saltmarsh --format json"),
    "lab status": ("lab status", "lab status --format json"),
    "lab clock": ("lab clock", "lab clock --forward 20m"),
    "lab rotate": ("lab rotate forge", "lab rotate forge --quiet"),
    "lab fault": ("lab fault gauges --lag 2s --fail 30 --seed 7", "lab fault --clear"),
    "lab use": ("lab use --days 400 --seed 7", "lab use --days 30"),
    "lab add": (
        "lab add gauges/pool/collectors/host/c --count 3",
        "lab add gauges/host/tide-9 --tied gauges/identity/tide-9",
    ),
    "lab remove": ("lab remove gauges/pool/collectors/host/c-1", "lab remove gauges/host/tide-9"),
    "lab on": (
        "lab on gauges/host/collector-1 -- enthesis whoami",
        "lab on gauges/host/collector-1 -- enthesis lend gauges/identity/collector -- ./collect.sh",
    ),
    "lab run": (
        "lab run forge --claim sub=project/tides/x/branch/main --claim aud=lowland -- enthesis whoami",
        "lab run forge --claim sub=project/tides/x/branch/main --claim aud=lowland -- ./publish.sh",
    ),
    "lab as": ("lab as harbourline -- enthesis propose", "lab as pilotage -- enthesis enact --yes"),
    "lab agree": (
        "lab agree --as @saltmarsh/identity/maren --mfa",
        "lab agree BCDF-GHJK --as @saltmarsh/identity/maren --refuse",
    ),
}
