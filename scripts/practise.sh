#!/bin/sh
# Stand-ins, for the pictures: somebody changes a gateway by hand, and a push brings it back; or with `in-use` packets
# come, and it is asked what the devices are doing.
set -e
folder=$(mktemp -d)
trap 'kill $standin; rm -rf "$folder"' EXIT
cp "$(dirname "$0")/../src/agile_lattice/demo/practice/quay.yaml" "$folder"
cd "$folder"
export XDG_STATE_HOME="$folder/state"
lattice standin quay.yaml --fault ferry-router:unplugged 2> begun &
standin=$!
until grep -qs Interrupt begun; do sleep 0.2; done
at() { host=$1; shift; ssh -o UserKnownHostsFile=keys/known_hosts -o IdentitiesOnly=yes -i keys/practice -p 2270 practice@"$host" "$@"; }
told() { at 127.0.70.1 "$@"; }
typed() {
  printf '%s\n' "\$ ssh practice@$*"
  at "$@"
}
if [ "$1" = in-use ]; then
  for to in 203.0.113.5 203.0.113.5; do typed 127.0.70.1 knock 198.51.100.7 "$to" tcp/443; done
  typed 127.0.70.1 knock 198.51.100.7 203.0.113.5 tcp/22
  typed 127.0.70.1 knock 10.70.1.20 198.51.100.7 udp/53
  typed 127.0.70.2 drift 10.70.2.9 198.51.100.7 tcp/443
  echo
  echo '$ lattice observe quay.yaml'
  lattice observe quay.yaml
  exit
fi
lattice capture quay.yaml --into archive > captured 2>&1

echo '$ ssh practice@127.0.70.1'
(sleep 1; echo help; sleep 1; echo 'trial stat'; sleep 1; echo 'trial state'; sleep 1; echo goodbye) | told -tt 2>&1 | grep -v '^Connection\|^.$'
echo
echo '$ ssh practice@127.0.70.1 read sheet | sed s/10.70.1.20/10.70.1.21/ > hurry'
told read sheet | sed 's/10.70.1.20/10.70.1.21/' > hurry
echo '$ ssh practice@127.0.70.1 trial 60 after $(ssh practice@127.0.70.1 read number) < hurry; ssh practice@127.0.70.1 trial keep'
told trial 60 after "$(told read number)" < hurry
told trial keep
lattice capture quay.yaml --into archive > captured 2>&1
echo
echo '$ lattice push quay.yaml archive --device slip-gate'
lattice push quay.yaml archive --device slip-gate --yes 2>&1 | tail -n 17
