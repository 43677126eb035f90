# Makes a change, and takes it back unless it is confirmed in time. It needs sh, flock, setsid and cmp, and nobody's help.
#
#   guard.sh FOLDER SECONDS          FOLDER has change.sh, back.sh, look.sh and `before`, what look.sh printed then
#   guard.sh FOLDER SECONDS second   takes over where the first one was killed
#   guard.sh FOLDER 0 again          tries the way back once more, where it did not lead back
#
# FOLDER/outcome says at last: kept, back, stuck (neither old nor new), busy (another push), moved (not what the change
# was made for), unarmed (it could not be made sure that there is a way back: nothing was changed). FOLDER/decided is a
# link to the decision: confirm, late or failed; the first to make it wins.
#
# Once the change begins, nothing here may need space: the device may have none left. So what there is to say was
# uploaded and only gets another name, `job` is written over in its place, and no output is kept to be compared.
DIR=$1; SECONDS_LEFT=$2; cd "$DIR" || exit 2
trap '' HUP INT
exec 9>../lock
up() { read -r s _ </proc/uptime; echo "${s%.*}${s#*.}"; }   # in hundredths: a clock that is set does not matter
decide() { ln -s "$1" decided 2>/dev/null; }
as() { mv "is-$1" "$2" 2>/dev/null; }
same() { [ -s before ] && sh look.sh 2>&1 9>&- | cmp -s - before; }
numbered() { [ ! -s exact.sh ] || sh exact.sh 2>&1 9>&- | cmp -s - exact; }   # the change names things by numbers
go_back() {
  rm -f reserve
  for try in 1 2; do
    if true >>back.log; then sh back.sh >>back.log 2>&1 9>&-; else sh back.sh >/dev/null 2>&1 9>&-; fi
    same && break
  done
  if same; then as back outcome; else as stuck outcome; fi
}
if [ "$3" = again ]; then
  flock 9
  mv outcome is-stuck; go_back; exit 0
fi
if [ "$3" = second ]; then
  tries=0
  while [ ! -e end ] && [ ! -e outcome ] && [ "$tries" -lt 100 ]; do sleep 0.1; tries=$((tries + 1)); done
  flock 9
  [ -e outcome ] || [ ! -e end ] && exit 0
  job=$(cat job 2>/dev/null); job=${job%% *}
  while [ "$(up)" -lt "$(cat end)" ] && [ ! -L decided ]; do sleep 0.1; done
  decide late
  if [ "$(readlink decided)" = confirm ]; then as kept outcome; exit 0; fi
  [ "$job" -gt 1 ] 2>/dev/null && kill -9 -"$job" 2>/dev/null
  go_back; exit 0
fi
flock -n 9 || { as busy outcome; exit 75; }
same && numbered || { as moved outcome; exit 1; }
end=$(($(up) + SECONDS_LEFT * 100))
{ printf '%-12s\n' 0 >job && true >>change.log && true >>back.log && [ "$(cat job)" ] && [ -s is-back ] && [ -s reserve ] &&
  printf '%s\n' "$end" >.end && [ "$(cat .end)" = "$end" ] && mv .end end && as armed state
} 2>/dev/null || { rm -f end; as unarmed outcome; exit 1; }
# The change itself says which process it is, before it does anything: whoever is killed here cannot any more.
setsid sh -c 'printf "%-12s\n" $$ 1<>job && exec sh change.sh' >>change.log 2>&1 9>&- & job=$!
while :; do
  if [ -n "$job" ] && ! kill -0 "$job" 2>/dev/null; then
    wait "$job"; code=$?; job=
    if [ "$code" = 0 ]; then as applied state; else decide failed || break; fi
  fi
  [ "$(up)" -ge "$end" ] && { decide late; break; }
  [ -L decided ] && break
  sleep 0.1
done
if [ "$(readlink decided)" = confirm ]; then as kept outcome; exit 0; fi
[ -n "$job" ] && { kill -9 -"$job"; wait "$job"; } 2>/dev/null
go_back
