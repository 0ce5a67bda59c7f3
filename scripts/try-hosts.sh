#!/usr/bin/env bash
# Two hosts on one machine: a network namespace is the second one, and ranks of MPI run on both, with all traffic over
# TCP. Checks that a study launched so has phases of both hosts. Needs root, iproute2 and Open MPI; ends with 77 where one
# of them is missing or the system does not allow it. Usage: try-hosts.sh [PRESET]
set -eu
cd "$(dirname "$0")/.."
bin=$PWD/build/${1:-release}
skip() { echo "not tried: $1"; exit 77; }
[ "$(id -u)" -eq 0 ] || skip "this needs root"
command -v ip >/dev/null && command -v mpirun >/dev/null || skip "iproute2 or openmpi-bin is not installed"
[ -x "$bin/examples/silt_ranks" ] || skip "silt_ranks is not built (libopenmpi-dev)"
name=antcrew-hostb
work=$(mktemp -d)
clear_up() { [ -z "${busy:-}" ] || kill "$busy" 2>/dev/null || true; ip netns del $name 2>/dev/null || true; ip link del antcrew0 2>/dev/null || true; rm -rf "$work"; }
trap clear_up EXIT
ip netns add $name 2>/dev/null || skip "the system makes no network namespaces here"
ip link add antcrew0 type veth peer name antcrew1 || skip "the system makes no pairs of network devices here"
ip link set antcrew1 netns $name
ip addr add 10.77.0.1/24 dev antcrew0
ip link set antcrew0 up
ip netns exec $name ip addr add 10.77.0.2/24 dev antcrew1
ip netns exec $name ip link set antcrew1 up
ip netns exec $name ip link set lo up
grep -q hostb /etc/hosts || { cp /etc/hosts "$work/hosts"; }
# In place of ssh: leaves out leading options, takes the host's name, and runs the rest there.
cat >"$work/agent" <<'A'
#!/bin/bash
while [[ $1 == -* ]]; do shift; done
shift
exec ip netns exec antcrew-hostb ${ANTCREW_HOSTB_ON:-} unshare --uts bash -c "hostname hostb; $*"
A
chmod +x "$work/agent"
cat >"$work/ranks.toml" <<T
format = 1
title = "Silt on two hosts"
workers = [2]
sizes = [200]
dimensions = { hosts = ["$(hostname):2", "$(hostname):1,10.77.0.2:1"] }
[environment]
OMPI_MCA_rmaps_base_oversubscribe = "1"
OMPI_ALLOW_RUN_AS_ROOT = "1"
OMPI_ALLOW_RUN_AS_ROOT_CONFIRM = "1"
OMPI_MCA_plm_rsh_agent = "$work/agent"
OMPI_MCA_orte_keep_fqdn_hostnames = "1"
OMPI_MCA_btl_tcp_if_include = "10.77.0.0/24"
OMPI_MCA_oob_tcp_if_include = "10.77.0.0/24"
[answer]
compare = "numbers"
tolerance = 1e-9
[baseline]
command = ["$bin/examples/silt_ranks", "--sequential", "@(size)", "100"]
[[variant]]
name = "rows to ranks"
crew = "ranks"
launcher = ["mpirun", "--host", "@(hosts)", "-n", "@(workers)"]
command = ["$bin/examples/silt_ranks", "@(size)", "100"]
T
"$bin/command/antcrew" sweep "$work/ranks.toml" --rounds 3 --no-confirm --quiet --save "$work/ranks.json" || [ $? -eq 4 ]
"$bin/command/antcrew" show "$work/ranks.json" --details "rows to ranks" >"$work/details"
grep -E "worker [01] on" "$work/details"
grep -q "worker 1 on hostb" "$work/details" || { echo "no phase of the second host"; cat "$work/details"; exit 1; }
# A study in C++, whose crew has a rank on either host.
if [ -x "$bin/examples/everywhere" ]; then
  export OMPI_MCA_rmaps_base_oversubscribe=1 OMPI_ALLOW_RUN_AS_ROOT=1 OMPI_ALLOW_RUN_AS_ROOT_CONFIRM=1
  export OMPI_MCA_plm_rsh_agent="$work/agent" OMPI_MCA_orte_keep_fqdn_hostnames=1
  export OMPI_MCA_btl_tcp_if_include=10.77.0.0/24 OMPI_MCA_oob_tcp_if_include=10.77.0.0/24
  for study in "Silt everywhere" "Gauges everywhere"; do
    "$bin/examples/everywhere" --study "$study" --workers 2 --rounds 3 --no-confirm --budget 0 --quiet \
      --launcher "mpirun --host $(hostname):1,10.77.0.2:1 -n @(workers)" --save "$work/everywhere.json" --overwrite ||
      [[ $? =~ ^[14]$ ]]
    grep -q '"faults": \[{' "$work/everywhere.json" && { grep '"faults": \[{' "$work/everywhere.json"; exit 1; }
  done
  sleep 5
  pgrep -f serve-launched-cell && { echo "ranks were left behind"; exit 1; }
  # What takes the time of silt's ranks, and how much of it: finding NAME must be told, the first of losses.
  silt() {
    "$bin/examples/everywhere" --study "Silt everywhere" --workers 2 --rounds 3 --no-confirm --budget 0 --quiet \
      --variant "by the ranks" --launcher "$first_on mpirun --bind-to none --host $(hostname):1,10.77.0.2:1 -n @(workers)" \
      --save "$work/silt.json" --overwrite >"$work/silt" 2>&1 || [[ $? =~ ^[14]$ ]]
    "$bin/command/antcrew" explain "$work/silt.json" --as json |
      python3 -c '
import json, sys
must, told = sys.argv[1], json.load(sys.stdin)
losses = [f for f in told["findings"] if f["class"] == "loss" and f["crew"] == "RankCrew"]
for f in losses: print("  %3.0f %%  %s: %s" % (100 * f["share"], f["id"], f["claim"]))
if must and (not losses or losses[0]["id"] != must): sys.exit("the first is not " + must)
if must == "network-bandwidth":
    by_rate = losses[0]["figures"]["link_s"] / losses[0]["figures"]["wall_s"]
    print("  bytes over rate are %.3f of the call, the share is %.3f" % (by_rate, losses[0]["share"]))
    if abs(by_rate - losses[0]["share"]) > 0.1 * by_rate: sys.exit("they are not alike")
' "$1"
  }
  first_on= ; export ANTCREW_HOSTB_ON=
  if [ "$(nproc)" -ge 2 ]; then first_on="taskset -c 0"; ANTCREW_HOSTB_ON="taskset -c 1"; fi
  echo "silt on two hosts:"
  silt ""
  if [ "$(nproc)" -ge 2 ]; then
    echo "the same with the second host's processor taken half the time:"
    taskset -c 1 sh -c 'while :; do :; done' & busy=$!
    silt slow-host
    kill "$busy"; busy=
  fi
  echo "the same over a link of 200 Mbit/s:"
  if tc qdisc add dev antcrew0 root tbf rate 200mbit burst 32kb latency 400ms 2>/dev/null; then
    ip netns exec $name tc qdisc add dev antcrew1 root tbf rate 200mbit burst 32kb latency 400ms
    silt network-bandwidth
  else
    echo "  not tried: the system shapes no traffic here"
  fi
fi
echo "ranks ran on both hosts"
