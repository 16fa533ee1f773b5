"""ledger.py PROGRAM DIR - see ledger.sh."""
from workbench import *

PACKAGES, FILES_OF_ONE, TRANSACTIONS, ATTICS = 300, 40, 2000, 100
COMMANDS = (("list",), ("owner", "/usr/share/part-007/3"), ("undo", "last", "--dry-run"), ("tidy",), ("ledger",))
CHANGE = ("install", "part-000", "--dry-run")  # where a change begins: everything but carrying it out


def make_packages():
    for number in range(PACKAGES):
        name = f"part-{number:03}"
        for version in ("1", "2"):
            source = f"{directory}/source/{name}-{version}"
            os.makedirs(f"{source}/root/usr/share/{name}")
            for file in range(FILES_OF_ONE):
                with open(f"{source}/root/usr/share/{name}/{file}", "w") as out:
                    out.write(f"{name} {file} {version if file % 10 == 0 else ''}\n" * 20)
            manifest(source, name, version)
            os.makedirs(f"{repository}/packages/{name}", exist_ok=True)
            sh(program, "pack", "-q", source, "-o", f"{repository}/packages/{name}/{version}.independent.hambrel")
    sh(program, "publish", "-q", repository)


def make_root(place, transactions):
    os.makedirs(place)
    sh(program, "--root", place, "repo", "add", f"file://{repository}", "--unsigned")
    hambrel(place, "install", *[f"part-{number:03}=1" for number in range(1, PACKAGES)])
    for number in range(transactions):
        name = f"part-{1 + number % (PACKAGES - 1):03}"
        hambrel(place, "install", f"{name}={2 - number // (PACKAGES - 1) % 2}")
    if transactions:
        hambrel(place, "tidy", "attic", "--keep", str(ATTICS))
        hambrel(place, "tidy", "cache", "--keep", "1")  # the other has one version of each


if __name__ == "__main__":
    short, long = f"{directory}/short", f"{directory}/long"
    if not os.path.exists(long):
        make_packages()
        make_root(short, 0)
        make_root(long, TRANSACTIONS)
    print("| command | at most | with the long record | ratio |\n|---|---|---|---|")
    for words in (*COMMANDS, CHANGE):
        times = {short: [], long: []}
        for _ in range(RUNS):
            for place in times:
                times[place].append(timed(program, "--root", place, *words, "--no-pager", *(() if "--dry-run" in words else ("-q",)))[0])
        mine, other = statistics.median(times[long]), statistics.median(times[short])
        print(f"| {' '.join(words)} | {1.5 if words == CHANGE else 1.2} | {mine * 1000:.1f} ms | {mine / other:.2f} |", flush=True)
