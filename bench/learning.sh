#!/usr/bin/env bash
# How fast classifiers are fitted and score, and how well they tell customers apart, against
# general-purpose Python libraries on the same rows in the same run; two threads each.
#   bench/learning.sh [ROWS]      1 000 000 rows by default; 20 numbers and 10 categories
# Makes a Python environment of its own, or uses the one whose interpreter PYTHON names.
set -euo pipefail
cd "$(dirname "$0")/.."
. scripts/machine.sh
rows=${1:-1000000}

need_rust
place=$(mktemp -d)
trap 'rm -rf "$place"' EXIT
python=${PYTHON:-}
if [ -z "$python" ]; then
  need python3 python3
  python3 -m venv "$place/python"
  python=$place/python/bin/python
  "$python" -m pip install --quiet numpy pyarrow scikit-learn lightgbm
fi
say "Making $rows rows"
"$python" bench/learning.py make "$place/customers.csv" "$rows"
say "Pronoia"
PRONOIA_BENCH_TABLE=$place/customers.csv PRONOIA_BENCH_OUT=$place/ours.json RAYON_NUM_THREADS=2 \
  cargo bench --quiet --package pronoia-core --bench learning
say "Python libraries"
"$python" bench/learning.py compare "$place/customers.csv" "$place/ours.json"
