#!/usr/bin/env bash
# How long a file takes to come in through the pages, against what psql's \copy takes to load the
# same file into a ready typed table on the same server. Prints both, their ratio, the most memory
# that the server process used, how fast pages of the table and of a question of it answer
# afterwards, and how soon a cancelled import ends.
#   bench/import.sh [ROWS]        1 000 000 rows by default; 30 columns, ten of them categories
# Builds and measures the release profile, or the program that PRONOIA names; needs bc, curl and the packages that ./test installs.
set -euo pipefail
cd "$(dirname "$0")/.."
. scripts/machine.sh
rows=${1:-1000000}

need_rust
need_postgres
need bc bc curl curl awk gawk
place=$(mktemp -d)
chmod 755 "$place"
server=
cleanup() {
  [ -n "$server" ] && kill "$server" 2>/dev/null
  stop_cluster "$place/cluster"
  rm -rf "$place"
}
trap cleanup EXIT
start_cluster "$place/cluster" 5771
export DATABASE_URL=$cluster_url
pronoia=${PRONOIA:-}
if [ -z "$pronoia" ]; then
  say "Building"
  cargo build --quiet --release --package pronoia-cli
  pronoia=${CARGO_TARGET_DIR:-target}/release/pronoia
fi

say "Making $rows rows"
file=$place/customers.csv
awk -v n="$rows" 'BEGIN {
  srand(1); printf "member_id"
  for (i = 0; i < 15; i++) printf ",num_%d", i
  for (i = 0; i < 10; i++) printf ",cat_%d", i
  print ",joined,flag,score,note"
  for (r = 1; r <= n; r++) {
    printf "%d", r
    for (i = 0; i < 15; i++) if (rand() < 0.02) printf ","; else printf ",%.3f", 100 + 90 * (rand() + rand() - 1)
    for (i = 0; i < 10; i++) printf ",v%d", int(12 * rand())
    printf ",20%02d-%02d-%02d,%s,%d,n%d\n", 10 + int(15 * rand()), 1 + int(12 * rand()), 1 + int(28 * rand()), rand() < 0.5 ? "yes" : "no", int(1000 * rand()), int(300 * rand())
  }
}' >"$file"
chmod 644 "$file"

now() { date +%s.%N; }
since() { echo "scale=2; ($(now) - $1) / 1" | bc; }

columns="member_id text"
for i in $(seq 0 14); do columns="$columns, num_$i double precision"; done
for i in $(seq 0 9); do columns="$columns, cat_$i text"; done
psql=("$postgres_bin/psql" -q "$cluster_url")
"${psql[@]}" -c "CREATE TABLE bare ($columns, joined date, flag text, score double precision, note text)"
begun=$(now)
"${psql[@]}" -c "\\copy bare from '$file' csv header"
bare=$(since "$begun")

printf 'bench-and-nothing-else\n' | "$pronoia" account bench@example.org --workspace Bench >/dev/null 2>&1
port=$(free_port 8517)
"$pronoia" serve --port "$port" --uploads "$place/uploads" --key "$place/key" >/dev/null 2>&1 &
server=$!
url=http://127.0.0.1:$port
until curl -sf "$url/health" >/dev/null; do sleep 0.1; done
jar=$place/jar
curl -s -c "$jar" -o /dev/null -d 'email=bench@example.org&password=bench-and-nothing-else' "$url/sign-in"
csrf=$(curl -s -b "$jar" "$url/" | grep -o 'name="csrf" value="[^"]*"' | head -n 1 | cut -d'"' -f4)

# Follows a job to the page that it leads to.
follow() {
  local answer
  while true; do
    answer=$(curl -s -b "$jar" -o "$place/page" -w '%{http_code} %{redirect_url}' "$1")
    case $answer in
      303*) echo "${answer#* }"; return ;;
    esac
    grep -q 'role="alert"' "$place/page" && stop_with "The import failed: $(grep -A 3 'role="alert"' "$place/page")"
    sleep 0.05
  done
}

begun=$(now)
job=$(curl -s -b "$jar" -o /dev/null -w '%{redirect_url}' -F "csrf=$csrf" -F "file=@$file" "$url/uploads")
upload=$(follow "$job")
read_in=$(since "$begun")
job=$(curl -s -b "$jar" -o /dev/null -w '%{redirect_url}' -d "csrf=$csrf" "$upload/accept")
table=$(follow "$job")
all=$(since "$begun")

say "psql \\copy             $bare s"
say "through the pages      $all s, of which sent and understood $read_in s: $(echo "scale=2; $all / $bare" | bc) times"
say "most memory            $(awk '/VmHWM/ { printf "%.0f MB", $2 / 1000 }' "/proc/$server/status")"
# Seconds until a page is there whole, three times.
opened() {
  say "$(for _ in 1 2 3; do curl -s -b "$jar" -o /dev/null -w '%{time_total}  ' "$1"; done)s  $2"
}
for page in "" "?view=rows" "?column=num_3" "?view=rows&sort=num_3" "?view=rows&sort=num_3&page=$((rows / 100))" "?view=rows&sort=num_3&page=$((rows / 50))"; do
  opened "$table$page" "records ${page:-columns}"
done

# A question of the table, and the pages that rest on a look at its rows.
send() { curl -s -b "$jar" -o /dev/null -w '%{redirect_url}' --data-urlencode "csrf=$csrf" "$@"; }
study=$(send --data-urlencode "table=${table##*/}" --data-urlencode "title=Who says yes?" -d question=other "$url/studies")
study=$(grep -oE '^.*/studies/[0-9]+' <<<"$study")
begun=$(now)
send -d column=flag -d event=yes "$study/prepare/outcome" >/dev/null
say "outcome chosen         $(since "$begun") s"
until curl -s -b "$jar" "$study/drivers" >"$place/page" && ! grep -q 'being looked at' "$place/page"; do sleep 0.2; done
say "its rows looked at     $(since "$begun") s"
for page in records drivers "drivers/segments" prepare "prepare?column=num_3" "prepare/cautions" "prepare/split" train compare; do
  opened "$study/$page" "$page"
done

# An import that is cancelled half-way.
job=$(curl -s -b "$jar" -o /dev/null -w '%{redirect_url}' -F "csrf=$csrf" -F "file=@$file" "$url/uploads")
upload=$(follow "$job")
job=$(send "$upload/accept")
share() { "${psql[@]}" -tAc "SELECT share FROM job WHERE id = ${job##*/}"; }
until [ "$(echo "$(share) > 0.4" | bc)" = 1 ]; do sleep 0.02; done
begun=$(now)
send "$job/cancel" >/dev/null
until [ "$("${psql[@]}" -tAc "SELECT state FROM job WHERE id = ${job##*/}")" = stopped ]; do sleep 0.02; done
say "cancelled              $(since "$begun") s"
