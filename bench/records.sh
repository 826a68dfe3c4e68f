#!/usr/bin/env bash
# Stored records against bare SQL on a server of their own: columns read back, sorted pages, and a
# roll-up of ten million rows. Needs what ./test installs, and about 12 GB of disk.
#   bench/records.sh
set -euo pipefail
cd "$(dirname "$0")/.."
. scripts/machine.sh
need_rust
need_postgres
place=$(mktemp -d)
chmod 755 "$place"
cleanup() {
  stop_cluster "$place/cluster"
  rm -rf "$place"
}
trap cleanup EXIT
start_cluster "$place/cluster" 5871
export DATABASE_URL=$cluster_url
cargo bench --quiet --package pronoia-store --bench records
