# Every signal once, and the one that nobody may do without.
while read -r flag meaning; do echo "checking $flag: $meaning"; done <"$1"
[ "$(cut -f 1 "$1" | sort -u | wc -l)" = "$(wc -l <"$1")" ] || { echo "check.sh: a signal is there twice" >&2; exit 1; }
grep -q '^Oscar' "$1" || { echo "check.sh: Oscar (man overboard) is missing" >&2; exit 1; }
