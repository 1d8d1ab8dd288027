#!/usr/bin/env bash
# The whole story, told by the client against a running demo: make tour.
# Each command is printed before its real output.
set -u
server=${1:-http://127.0.0.1:8640}
cd "$(dirname "$0")/.."
export OAKEN_LATCH_SERVER=$server
HOME=$(mktemp -d)
export HOME XDG_CONFIG_HOME=$HOME
trap 'rm -rf "$HOME"' EXIT
export PATH=${BIN:-$PWD/bin}:$PATH
unexpected=0

say() { printf '\n# %s\n' "$*"; }
run() { # STATUS COMMAND...: what is expected, then what is run
  local want=$1 got
  shift
  case $1 in as_joss) printf 'joss$' ;; *) printf '$' ;; esac
  for word in "$@"; do
    case $word in as_joss) ;; *' '*) printf ' "%s"' "$word" ;; *) printf ' %s' "$word" ;; esac
  done
  printf '\n'
  "$@"
  got=$?
  [ "$got" -eq 0 ] || printf '(exit status %d)\n' "$got"
  if [ "$got" -ne "$want" ]; then
    printf '!! exit status %d was expected\n' "$want"
    unexpected=1
  fi
}

cd "$HOME" || exit 1
echo ferry-mara >mara.password
echo ferry-joss >joss.password
latch login --user mara --password-file mara.password >/dev/null || { echo "start the demo first, in another terminal: make demo" >&2; exit 4; }

say "Mara signs in and looks around."
run 0 latch login --user mara --password-file mara.password
run 0 latch devices
run 0 latch config northmole-harbour /interfaces/interface=port1

say "She opens a change and stages edits. Nothing typed takes effect by itself."
n=$(latch open "Bigger frames to Saltern" --ticket TF-214)
printf '$ latch open "Bigger frames to Saltern" --ticket TF-214\n%s\n' "$n"
mtu=$(latch config northmole-harbour /interfaces/interface=port1/ipv4/mtu | grep -o '[0-9]*$')
new=9000
[ "$mtu" = 9000 ] && new=8000
run 0 latch put "$n" northmole-harbour /interfaces/interface=port1/ipv4/mtu $new
run 2 latch put "$n" northmole-harbour /interfaces/interfase=port1/ipv4/mtu 9000
run 0 latch preview "$n"

say "How a path goes on is the device's to tell; so is whether the result is valid."
run 0 latch paths northmole-harbour /interfaces/interface=port1/ipv4/
run 0 latch preview "$n" --validate --people --context 0

say "She commits on hold: it reverts by itself unless confirmed. She keeps it."
run 0 latch commit "$n" --hold 1m
run 0 latch show "$n"
run 0 latch confirm "$n"

say "A change nobody confirms reverts, and the service says so from what it read."
m=$(latch open "Try another contact")
printf '$ latch open "Try another contact"\n%s\n' "$m"
run 0 latch put "$m" saltern-quay /system/contact "nobody in particular"
run 5 latch commit "$m" --hold 10s --wait

say "Several devices, one of them old: it cannot revert by itself, and that is said."
w=$(latch open "Who to call at Saltern" --ticket TF-231)
printf '$ latch open "Who to call at Saltern" --ticket TF-231\n%s\n' "$w"
run 0 latch put "$w" saltern-quay /system/contact "Slip office, ext. $RANDOM"
run 0 latch put "$w" saltern-slip /system/contact "Slip office, ext. $RANDOM"
run 0 latch preview "$w"
run 0 latch commit "$w" --hold 2m --first saltern-quay --probe "state saltern-quay /interfaces/interface=trunk1/oper-status up" --probe "program ferry-answers Heron" --failed-probe revert
run 0 latch extend "$w" 5m
run 0 latch confirm "$w"

say "A file for two switches, a stencil, and somebody to help: each line tells whose it is."
printf 'vlans\n  vlan [40]\n    name: lamps-%s\n' $RANDOM >lamps.txt
printf 'system\n  location: "{place}, cabinet {number}"\n  ntp\n    server [{@time-servers}]\n      udp\n        address: {@time-servers}\n' >clock.outline
l=$(latch open "Lamps on the quay" --ticket TF-244)
printf '$ latch open "Lamps on the quay" --ticket TF-244\n%s\n' "$l"
run 2 latch load "$l" saltern-quay,saltern-slip lamps.txt
run 0 latch load "$l" saltern-quay,saltern-slip lamps.txt --mode merge
run 0 latch shared set time-servers 203.0.113.123 203.0.113.$((RANDOM % 100 + 124))
printf '# %s\n' $RANDOM >>clock.outline
run 0 latch stencil save clock clock.outline --note "two servers"
run 0 latch stencil bind clock "$l" saltern-quay --set place="Saltern quay" --set number=$((RANDOM % 9 + 1))
run 0 latch share "$l" joss
HOME=$HOME/joss XDG_CONFIG_HOME=$HOME/joss latch login --user joss --password-file joss.password >/dev/null
as_joss() { HOME=$HOME/joss XDG_CONFIG_HOME=$HOME/joss "$@"; }
run 0 as_joss latch put "$l" saltern-quay /system/contact "Joss, ext. $RANDOM"
run 0 latch preview "$l" --people --device saltern-quay

say "Joss is faster elsewhere: what was previewed is no longer what would be committed."
run 0 latch preview "$l" --as unified --device saltern-slip
j=$(as_joss latch open "Who to call at the quay")
as_joss latch put "$j" saltern-quay /system/contact "Quay office, ext. $RANDOM" >/dev/null
latch preview "$l" >/dev/null
as_joss latch commit "$j" --hold 30s >/dev/null && as_joss latch confirm "$j" >/dev/null
run 3 latch commit "$l"
run 0 latch decide "$l" saltern-quay /system/contact theirs
run 0 latch rebase "$l"
run 0 as_joss latch reserve saltern-quay --for 2h --reason "new fibre on trunk1"
run 3 latch commit "$l"
run 0 latch reserve ask saltern-quay "may I add the lamps before noon?"
run 0 as_joss latch release saltern-quay
run 0 latch preview "$l" --device saltern-quay
latch preview "$l" >/dev/null
run 0 latch commit "$l" --hold 1m
run 0 latch confirm "$l"
run 0 latch stencil show clock

say "What is to happen at night is checked now, and again then. Clocks that are off are said."
x=$(latch open "Winter timetable")
printf '$ latch open "Winter timetable"\n%s\n' "$x"
run 0 latch put "$x" saltern-slip /system/location "Boat slip hut, winter berth"
run 0 latch commit "$x" --at 03:30 --zone Europe/Lisbon
run 0 latch schedule
run 0 latch unschedule "$x"

say "Everything but the commit, done ahead."
run 0 latch prepare "$x" --for 30m --hold 1m
run 0 latch device sessions saltern-slip
run 0 latch commit "$x"
run 0 latch revert "$x" --yes

say "A filter change that opens more than it is meant to: the preview names the surplus, and an address in it."
slip=$(latch changes | awk '/The slip office books online/ { print $1; exit }')
if [ -n "$slip" ] && latch show "$slip" | head -1 | grep -q draft; then
  rule=/acls/acl=hall-in/aces/ace=slip-office
  run 0 latch put "$slip" gannet-hall $rule/matches/ipv4/source-ipv4-network 198.51.0.0/16
  run 1 latch preview "$slip"
  run 3 latch commit "$slip" --hold 1m
  run 0 latch put "$slip" gannet-hall $rule/matches/ipv4/source-ipv4-network 198.51.100.64/26
  run 0 latch preview "$slip"
fi
run 0 latch filter list gannet-hall
run 0 latch filter show gannet-hall/hall-in
run 1 latch filter trace gannet-hall/management-in tcp from 198.51.100.0/24,203.0.113.0/24 to 192.0.2.13 port 830

say "A change that cuts the only management access. The device vanishes, and comes back by itself."
k=$(latch open "Tidy up the firewall")
printf '$ latch open "Tidy up the firewall"\n%s\n' "$k"
run 0 latch delete "$k" gannet-hall /acls/acl=management-in/aces/ace=operations-room
run 0 latch preview "$k"
run 5 latch commit "$k" --hold 10s --wait
run 0 latch config gannet-hall /acls/acl=management-in/aces/ace=operations-room

say "Joss works on the same device. What Mara has in draft is hers alone."
d=$(latch open "Mara's draft")
run 0 latch put "$d" northmole-harbour /system/location "Ramp house, upstairs"
run 3 as_joss latch preview "$d"

say "What was: who set each line, what it was before, and that again."
run 0 latch snapshot take "Before the winter timetable" --all
run 0 latch timeline saltern-quay
run 0 latch blame saltern-quay /system
run 0 latch history saltern-quay /system/contact
run 1 latch compare saltern-quay@rev:1 saltern-quay --as sides
run 0 latch undo "$l"
run 0 latch restore saltern-quay rev:1 --path /system/contact
run 1 latch backups

say "What somebody changed without the service is found, and waits until somebody decides."
run 0 latch outside
o=$(latch outside --device gannet-hall | awk 'NR == 2 { print $1 }')
if [ -n "$o" ]; then
  run 0 latch outside show "$o"
  run 2 latch outside adopt "$o"
  run 0 latch outside adopt "$o" "Joss moved the cabinet, and wrote it down"
fi
o=$(latch outside --device saltern-slip | awk 'NR == 2 { print $1 }')
[ -n "$o" ] && run 0 latch outside push-back "$o"

say "Every commit, who had a hand in it, and on paper."
run 0 latch commits
run 0 latch commits show 1
run 0 latch report change "$n" change.pdf
run 0 latch report week.html --since 7d

say "Who did what, when: and the record was not altered."
run 0 latch audit "change:$n"
run 0 latch audit verify
run 0 latch audit prove 5 --to entry-5.proof
latch audit key > record.pub
run 0 latch audit check entry-5.proof --key record.pub
exit $unexpected
