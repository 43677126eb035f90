# Makes a change, and takes it back unless it is confirmed in time. It needs sh, flock and setsid, and nobody's help.
#
#   guard.sh FOLDER SECONDS          FOLDER has change.sh, back.sh, look.sh and `before`, what look.sh printed then
#   guard.sh FOLDER SECONDS second   takes over where the first one was killed
#
# FOLDER/outcome says at last: kept, back, stuck (neither old nor new), busy (another push), moved (not what the change
# was made for). FOLDER/decided is a link to the decision: confirm, late or failed; the first to make it wins.
DIR=$1; SECONDS_LEFT=$2; cd "$DIR" || exit 2
trap '' HUP INT
exec 9>../lock
put() { printf '%s\n' "$2" >".$1" && mv ".$1" "$1"; }
up() { read -r s _ </proc/uptime; echo "${s%.*}${s#*.}"; }   # in hundredths: a clock that is set does not matter
decide() { ln -s "$1" decided 2>/dev/null; }
go_back() {
  for try in 1 2; do
    sh back.sh >>back.log 2>&1 9>&-
    sh look.sh >after 2>&1; cmp -s after before && break
  done
  if cmp -s after before; then put outcome back; else put outcome stuck; fi
}
if [ "$3" = second ]; then
  tries=0
  while [ ! -e end ] && [ ! -e outcome ] && [ "$tries" -lt 100 ]; do sleep 0.1; tries=$((tries + 1)); done
  flock 9
  [ -e outcome ] || [ ! -e end ] && exit 0
  job=$(cat job 2>/dev/null)
  while [ "$(up)" -lt "$(cat end)" ] && [ ! -L decided ]; do sleep 0.1; done
  decide late
  if [ "$(readlink decided)" = confirm ]; then put outcome kept; exit 0; fi
  [ -n "$job" ] && kill -9 -"$job" 2>/dev/null
  go_back; exit 0
fi
flock -n 9 || { put outcome busy; exit 75; }
sh look.sh >now 2>&1
cmp -s now before || { put outcome moved; exit 1; }
end=$(($(up) + SECONDS_LEFT * 100)); put end "$end"; put state armed
setsid sh change.sh >change.log 2>&1 9>&- & job=$!
put job "$job"
while :; do
  if [ -n "$job" ] && ! kill -0 "$job" 2>/dev/null; then
    wait "$job"; code=$?; job=
    if [ "$code" = 0 ]; then put state applied; else decide failed; fi
  fi
  [ "$(up)" -ge "$end" ] && decide late
  [ -L decided ] && break
  sleep 0.1
done
if [ "$(readlink decided)" = confirm ]; then put outcome kept; exit 0; fi
[ -n "$job" ] && { kill -9 -"$job"; wait "$job"; } 2>/dev/null
go_back
