#!/bin/sh
# A round on stand-ins, for the picture: somebody changes a gateway by hand, and a push brings it back.
set -e
folder=$(mktemp -d)
trap 'kill $standin; rm -rf "$folder"' EXIT
cp "$(dirname "$0")/../src/agile_lattice/demo/practice/quay.yaml" "$folder"
cd "$folder"
export XDG_STATE_HOME="$folder/state"
lattice standin quay.yaml 2> begun &
standin=$!
until grep -qs Interrupt begun; do sleep 0.2; done
told() { ssh -o UserKnownHostsFile=keys/known_hosts -o IdentitiesOnly=yes -i keys/practice -p 2270 practice@127.0.70.1 "$@"; }
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
