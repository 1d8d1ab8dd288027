package cli

// commands are the verbs, daily ones first.
func commands() []command {
	return []command{
		{
			"open", "TITLE", "start a change, prints its number",
			`latch open "Bigger frames to Saltern" --ticket TF-214`, 1, 1, openChange,
		},
		{
			"put", "CHANGE DEVICE PATH [VALUE]",
			"stage one value, list entry or container; several devices with commas",
			"latch put 7 northmole-harbour /interfaces/interface=port1/ipv4/mtu 9000\nlatch put 7 " +
				"saltern-quay,saltern-slip /system/dns-resolver/search tidewell.example --only",
			3, 4, put,
		},
		{
			"delete", "CHANGE DEVICE PATH", "stage the deletion of what is at a path",
			"latch delete 7 northmole-harbour /interfaces/interface=port4", 3, 3, deletePath,
		},
		{
			"move", "CHANGE DEVICE PATH WHERE",
			"stage another place for an entry whose order matters: first, last, before KEY, after KEY",
			"latch move 7 gannet-hall /acls/acl=hall-in/aces/ace=booking before nothing-else", 4, 5, move,
		},
		{
			"load", "CHANGE DEVICE FILE",
			"stage a file: XML, JSON or outline, told by its content; several devices with commas",
			"latch load 7 saltern-quay vlans.outline --mode merge\nlatch load 7 gannet-hall filters.xml --mode " +
				"replace-at --at /acls",
			3, 3, load,
		},
		{
			"copy", "CHANGE DEVICE FROM [PATH]",
			"stage what another device holds: FROM is NAME, NAME@startup, NAME@rev:4 or NAME@change:3",
			"latch copy 7 saltern-slip saltern-quay /vlans\nlatch copy 7 saltern-quay saltern-quay@rev:3 /system " +
				"--mode replace-at",
			3, 4, copyFrom,
		},
		{
			"edit", "CHANGE DEVICE [PATH]", "stage by editing an outline in $EDITOR",
			"latch edit 7 gannet-hall /acls/acl=hall-in", 2, 3, editText,
		},
		{
			"paths", "DEVICE [PATH]",
			"how a path goes on by the device's schema, with types, values, defaults and what is there",
			"latch paths northmole-harbour /interfaces/interface=port1/ipv4/", 1, 2, paths,
		},
		{
			"unstage", "CHANGE [EDIT]", "take staged edits back: one, a line, one person's, or all",
			"latch unstage 7 12\nlatch unstage 7 --by joss\nlatch unstage 7 --device saltern-quay --path " +
				"/vlans/vlan=40",
			1, 2, unstage,
		},
		{
			"preview", "CHANGE", "the difference and every verdict on it",
			"latch preview 7 --context 3\nlatch preview 7 --validate --people\nlatch preview 7 --as unified --device " +
				"saltern-quay",
			1, 1, preview,
		},
		{
			"rebase", "CHANGE [DEVICE...]", "put a change on what its devices hold now", "latch rebase 7 saltern-quay",
			1, 1000, rebase,
		},
		{
			"decide", "CHANGE DEVICE PATH mine|theirs",
			"keep one side where the change and the device both changed the same",
			"latch decide 7 saltern-quay /system/contact theirs", 4, 4, decide,
		},
		{
			"readdress", "CHANGE DEVICE HOST:PORT",
			"say that a change moves a device's management there on purpose; - takes that back",
			"latch readdress 7 saltern-quay 192.0.2.22:830", 3, 3, readdress,
		},
		{"share", "CHANGE ACCOUNT", "let somebody else work on a change", "latch share 7 joss", 2, 2, share},
		{"unshare", "CHANGE ACCOUNT", "take somebody off a change", "latch unshare 7 joss", 2, 2, unshare},
		{
			"note", "CHANGE TEXT", "write a note down with a change",
			`latch note 7 "The harbour office was told at 01:40."`, 2, 2, note,
		},
		{"rename", "CHANGE", "give a change another title or ticket", "latch rename 7 --ticket TF-215", 1, 1, rename},
		{
			"commit", "CHANGE", "apply on hold: it goes back by itself unless confirmed",
			"latch commit 7 --hold 10m\nlatch commit 7 --hold 5m --first saltern-quay --probe \"tcp 192.0.2.12:22\" " +
				"--failed-probe revert\nlatch commit 7 --at 02:00 --zone Europe/Paris --confirm probes",
			1, 1, commit,
		},
		{
			"ask", "CHANGE [NOTE]", "ask others to agree to a change; those who may approve it see it from then on",
			"latch ask 7 \"The ferry sails at six.\"", 1, 100, askFor,
		},
		{
			"approve", "CHANGE", "agree to somebody else's change, as a preview shows it",
			"latch approve 7 --preview 3f9a0c11d2e4", 1, 1, approve,
		},
		{"unapprove", "CHANGE", "take one's agreement back", "latch unapprove 7", 1, 1, unapprove},
		{
			"prepare", "CHANGE", "do everything but the commit itself, ahead of its hour",
			"latch prepare 7 --for 2h --hold 10m", 1, 1, prepareAhead,
		},
		{
			"extend", "CHANGE [DURATION]", "more time until it goes back; -5m takes time away",
			"latch extend 7 20m\nlatch extend 7 --until 02:30", 1, 2, extend,
		},
		{"confirm", "CHANGE", "keep what is on hold", "latch confirm 7", 1, 1, confirm},
		{"revert", "CHANGE", "go back now", "latch revert 7", 1, 1, revert},
		{
			"leave", "CHANGE DEVICE", "settle a device that does not go back: leave it as it is",
			"latch leave 7 saltern-quay", 2, 2, leave,
		},
		{
			"settle", "[CHANGE [DEVICE]...]",
			"after a restore: what the devices hold of a change that was under way, and what is to be with it; " +
				"without a change, what is to be settled",
			"latch settle\nlatch settle 7\nlatch settle 7 saltern-quay --keep\nlatch settle 7 --send-back\nlatch " +
				"settle 7 --looked",
			0, 1000, settle,
		},
		{"schedule", "", "what is to be done at a time", "latch schedule --all", 0, 0, schedule},
		{
			"unschedule", "CHANGE|DEVICE", "take a commit, or a device's restart, off the schedule",
			"latch unschedule 7", 1, 1, unschedule,
		},
		{"watch", "CHANGE", "follow a commit until it is decided", "latch watch 7", 1, 1, watch},
		{"show", "CHANGE", "a change and how it stands, device by device", "latch show 7", 1, 1, showChange},
		{"changes", "", "the changes you may see, newest first", "latch changes", 0, 0, changes},
		{"drop", "CHANGE", "abandon a change that is on no device", "latch drop 7", 1, 1, drop},
		{
			"config", "DEVICE [PATH]", "what is there",
			"latch config northmole-harbour /interfaces/interface=port1\nlatch config northmole-harbour --from " +
				"startup --xml",
			1, 2, config,
		},
		{"mend", "CHANGE FINDING", "stage the edit that a finding of the preview offers", "latch mend 7 1", 2, 2, mend},
		{
			"check", "FILE", "what is wrong with a configuration in a file",
			"latch check new.outline --device northmole-harbour\nlatch check new.xml --modules yang/", 1, 1, checkFile,
		},
		{
			"compare", "A B",
			"two configurations: files, or devices as NAME or NAME@PLACE: startup, rev:N, startup:N, snapshot:NAME, " +
				"at:TIME, before:N, change:N",
			"latch compare northmole-harbour northmole-harbour@startup\nlatch compare saltern-quay@rev:3 " +
				"saltern-quay@snapshot:'Before winter' --as sides\nlatch compare old.xml new.json --modules yang/ " +
				"--as unified",
			2, 2, compare,
		},
		{
			"moved", "FROM [TO]",
			"what moved on many devices between two moments, in sum: snapshot:NAME, at:TIME, running",
			"latch moved snapshot:'Before winter' --site Saltern\nlatch moved at:2026-11-20T02:00:00Z running", 1, 2,
			moved,
		},
		{
			"undo", "[CHANGE]", "a new change that takes a kept one back, and nothing that came after it",
			"latch undo 12\nlatch undo 12 --device saltern-quay --path /vlans/vlan=40\nlatch undo --by joss --since 2d",
			0, 1, undo,
		},
		{
			"restore", "[DEVICE] PLACE",
			"stage a configuration, or parts of it, as it was: rev:N, snapshot:NAME, at:TIME, startup, before:N",
			"latch restore saltern-quay rev:4\nlatch restore saltern-quay snapshot:'Before winter' --path /vlans " +
				"--path /system/dns-resolver\nlatch restore snapshot:7 --all",
			1, 2, restore,
		},
		{
			"export", "FILE [DEVICE...]", "configurations as a bundle of instance data files (RFC 9195), with digests",
			"latch export saltern.tar --site Saltern\nlatch export winter.tar --from snapshot:'Before winter' --all " +
				"--format json\nlatch export quay.xml saltern-quay --alone",
			1, 1000, export,
		},
		{
			"import", "FILE",
			"stage a configuration from a file: XML, JSON, outline, or of a bundle, told by its content",
			"latch import quay.xml --onto saltern-quay\nlatch import saltern.tar --device saltern-slip --path " +
				"/vlans\nlatch import saltern.tar --all",
			1, 1, importFile,
		},
		{
			"carry", "DEVICE[@PLACE] DEVICE",
			"stage one device's configuration on another; its own name and addresses stay",
			"latch carry saltern-quay saltern-slip\nlatch carry saltern-quay@rev:4 saltern-slip", 2, 2, carryOnto,
		},
		{
			"blame", "DEVICE [PATH]", "who last set each line, with which change and ticket",
			"latch blame gannet-hall /acls\nlatch blame gannet-hall --gone", 1, 2, blameLines,
		},
		{
			"history", "DEVICE PATH", "the life of one value, or of all below a path",
			"latch history saltern-quay /system/contact", 2, 2, life,
		},
		{
			"timeline", "DEVICE", "what happened to a device: changes, outside changes, snapshots, what went back",
			"latch timeline saltern-quay", 1, 1, timeline,
		},
		{
			"revisions", "DEVICE", "every configuration there was, with its cause and person",
			"latch revisions saltern-quay\nlatch revisions saltern-quay --startup", 1, 1, revisions,
		},
		{
			"snapshots", "", "names for the state of devices at one moment, newest first",
			"latch snapshots --device saltern-quay", 0, 0, snapshots,
		},
		{
			"snapshot take", "NAME [DEVICE...]", "name the state that devices are in now",
			"latch snapshot take \"Before the winter timetable\" --site Saltern\nlatch snapshot take \"Vor der " +
				"Übergabe\" saltern-quay saltern-slip --note \"all quiet\"",
			1, 1000, snapshotTake,
		},
		{
			"snapshot show", "SNAPSHOT", "what a snapshot holds, and whether its moment was clean",
			"latch snapshot show 7\nlatch snapshot show \"Before the winter timetable\"", 1, 1, snapshotShow,
		},
		{
			"snapshot rename", "SNAPSHOT NAME", "call a snapshot otherwise",
			"latch snapshot rename 7 \"Winter, first try\"", 2, 2, snapshotRename,
		},
		{
			"snapshot note", "SNAPSHOT TEXT", "write a note down with a snapshot",
			"latch snapshot note 7 \"the spare trunk was unplugged\"", 2, 2, snapshotNote,
		},
		{
			"snapshot protect", "SNAPSHOT", "keep a snapshot from being retired", "latch snapshot protect 7", 1, 1,
			snapshotProtect,
		},
		{
			"snapshot retire", "SNAPSHOT", "take a snapshot out of the lists; what it named stays",
			"latch snapshot retire 7", 1, 1, snapshotRetire,
		},
		{
			"convert", "FILE", "a configuration in another format",
			"latch convert config.xml --to outline --modules yang/", 1, 1, convert,
		},
		{
			"reserve", "DEVICE", "keep a device to yourself for a while",
			`latch reserve saltern-quay --for 2h --reason "new fibre on trunk1"`, 1, 1, reserve,
		},
		{
			"reserve ask", "DEVICE TEXT", "ask whoever has a device reserved",
			`latch reserve ask saltern-quay "may I add a camera port before noon?"`, 2, 2, reserveAsk,
		},
		{"reserve list", "", "the devices that are reserved", "latch reserve list", 0, 0, reserveList},
		{
			"release", "DEVICE", "end a reservation; an administrator can end anybody's", "latch release saltern-quay",
			1, 1, release,
		},
		{"stencils", "", "all stencils: pieces of configuration with blanks", "latch stencils", 0, 0, stencils},
		{
			"stencil show", "STENCIL", "a stencil, its blanks, its versions, and the devices that use it",
			"latch stencil show clock --device saltern-quay", 1, 1, stencilShow,
		},
		{
			"stencil save", "STENCIL FILE", "save a new version; opens a change for the devices that use it",
			"latch stencil save clock clock.outline --note \"two servers\"", 2, 2, stencilSave,
		},
		{
			"stencil bind", "STENCIL CHANGE DEVICE",
			"stage what a stencil sets on a device, with values for its blanks",
			"latch stencil bind uplink 7 saltern-quay --set port=trunk1 --set what=\"Fibre to Northmole\"", 3, 3,
			stencilBind,
		},
		{
			"stencil unbind", "STENCIL CHANGE DEVICE", "stage that what a stencil set on a device goes",
			"latch stencil unbind clock 7 saltern-quay", 3, 3, stencilUnbind,
		},
		{"shared", "", "values defined once for all stencils", "latch shared", 0, 0, sharedList},
		{
			"shared set", "NAME [ITEM...]", "give a shared value its items; opens a change for the devices that use it",
			"latch shared set time-servers 203.0.113.123 203.0.113.124", 1, 1000, sharedSet,
		},
		{"devices", "", "all devices and how they are", "latch devices", 0, 0, devices},
		{"device show", "NAME", "one device", "latch device show northmole-harbour", 1, 1, deviceShow},
		{
			"device add", "NAME", "add a device",
			"latch device add northmole-harbour --address 192.0.2.11:830 --user harbour --password-file pw --site " +
				"Northmole --role router",
			1, 1, deviceAdd,
		},
		{
			"device trust", "NAME", "show a device's host key, ask, keep it", "latch device trust northmole-harbour", 1,
			1, deviceTrust,
		},
		{
			"device replace", "NAME", "put another box in a device's place; its history goes on",
			"latch device replace saltern-quay --address 192.0.2.12:830 --user harbour --password-file pw", 1, 1,
			deviceReplace,
		},
		{
			"device save", "NAME", "save what runs to startup, showing first what that adds",
			"latch device save saltern-quay", 1, 1, deviceSave,
		},
		{
			"device restart", "NAME", "restart a device, showing first what would be lost",
			"latch device restart saltern-quay --at 04:00", 1, 1, deviceRestart,
		},
		{
			"device sessions", "NAME", "who is on a device, and which locks they hold",
			"latch device sessions saltern-quay", 1, 1, deviceSessions,
		},
		{
			"device clear-candidate", "NAME", "discard what somebody left uncommitted on a device",
			"latch device clear-candidate saltern-quay", 1, 1, deviceClear,
		},
		{
			"device clock", "NAME", "a device's clock against the service's", "latch device clock saltern-quay", 1, 1,
			deviceClock,
		},
		{
			"device set", "NAME", "a device's settings",
			"latch device set saltern-quay --save no\nlatch device set saltern-quay --seen-as 192.0.2.12:830 " +
				"--seen-from 198.51.100.10 --via northmole-harbour",
			1, 1, deviceSet,
		},
		{
			"safe", "", "how what is saved stands: changed, saved to startup, copied off the machine", "latch safe", 0,
			0, kept,
		},
		{
			"archive list", "", "where copies go, in the order in which archives are tried", "latch archive list", 0, 0,
			archiveList,
		},
		{
			"archive add", "NAME", "add a place for copies: a folder, an SFTP server, a git repository",
			"latch archive add away --sftp 198.51.100.20:22/archive --user copies --key-file key --every 24h\nlatch " +
				"archive add log --git git@git.tidewell.example:network.git --key-file key\nlatch archive add share " +
				"--folder /mnt/share --keep-last 50 --keep-days 400",
			1, 1, archiveAdd,
		},
		{
			"archive trust", "ARCHIVE", "show the host key of an archive's server, ask, keep it",
			"latch archive trust away", 1, 1, archiveTrust,
		},
		{
			"archive set", "ARCHIVE", "when an archive is copied to, its place in the order, what it keeps",
			"latch archive set away --position 1 --every 12h\nlatch archive set share --retire", 1, 1, archiveSet,
		},
		{
			"archive copy", "[DEVICE...]", "copy now what has no copy yet",
			"latch archive copy\nlatch archive copy saltern-quay --to share", 0, 1000, archiveCopy,
		},
		{
			"archive copies", "", "the copies there are", "latch archive copies --device saltern-quay", 0, 0,
			archiveCopies,
		},
		{
			"archive mend", "COPY",
			"put a copy in the place of the kept configuration that it was made of, where that is damaged",
			"latch archive mend 12", 1, 1, archiveMend,
		},
		{
			"archive read", "COPY", "a copy as the archive has it, compared with its digest", "latch archive read 12",
			1, 1, archiveRead,
		},
		{
			"archive verify", "ARCHIVE", "read every copy back and compare it", "latch archive verify away", 1, 1,
			archiveVerify,
		},
		{
			"archive restore", "ARCHIVE", "make devices and their history again from nothing but an archive",
			"latch archive restore away", 1, 1, archiveRestore,
		},
		{
			"expect", "CHANGE LINE...",
			"state what traffic a change is meant to permit or deny; its preview answers, its commit rests on it",
			"latch expect 7 permit tcp from 198.51.100.0/25 to 192.0.2.13 port 830 --at " +
				"gannet-hall/management-in\nlatch expect 7 deny any from 203.0.113.0/24",
			2, 100, expect,
		},
		{"expect list", "CHANGE", "what is expected of a change", "latch expect list 7", 1, 1, expectList},
		{"expect drop", "CHANGE NUMBER", "take an expectation back", "latch expect drop 7 2", 2, 2, expectDrop},
		{
			"expect accept", "CHANGE DEVICE PLACE",
			"accept by its name what a change does at a filter, or at INTERFACE DIRECTION, though nobody expects it",
			"latch expect accept 7 gannet-hall management-in\nlatch expect accept 7 gannet-hall 'hall0 ingress'", 3, 3,
			expectAccept,
		},
		{
			"filter list", "DEVICE", "a device's packet filters, and where they work; or those of a FILE",
			"latch filter list gannet-hall\nlatch filter list new.xml --device gannet-hall", 1, 1, filterList,
		},
		{
			"filter show", "DEVICE/FILTER",
			"what each rule of a filter decides, which are never reached or redundant, which clash, and what can go",
			"latch filter show gannet-hall/management-in\nlatch filter show gannet-hall/hall-in --widest\nlatch " +
				"filter show new.xml:hall-in --device gannet-hall",
			1, 1, filterShow,
		},
		{
			"filter trace", "DEVICE/FILTER PACKETS...",
			"what filters do with packets, which rule decides, and why not the ones before; several filters with " +
				"commas; of a file: FILE:FILTER",
			"latch filter trace gannet-hall/management-in tcp from 198.51.100.7 to 192.0.2.13 port 830", 2, 100,
			filterTrace,
		},
		{
			"filter compare", "DEVICE/FILTER DEVICE/FILTER",
			"how two filters differ, over all packets; of a file: FILE:FILTER",
			"latch filter compare gannet-hall@rev:1/management-in gannet-hall/management-in\nlatch filter compare " +
				"gannet-hall/hall-in new.xml:hall-in --device gannet-hall",
			2, 2, filterCompare,
		},
		{
			"commits", "", "every commit: who staged, committed and confirmed it, how long it took, what it came to",
			"latch commits --who joss --since 30d\nlatch commits --device saltern-quay", 0, 0, commits,
		},
		{
			"commits show", "COMMIT", "one commit: what it made of each device, step by step", "latch commits show 4",
			1, 1, commitShow,
		},
		{
			"report", "FILE", "a report of a period, of all, of a device or of a person, as PDF or HTML",
			"latch report november.pdf --since 2026-11-01\nlatch report joss.html --who joss --since 30d", 1, 1,
			reportSpan,
		},
		{
			"report change", "CHANGE FILE", "a change's report: what is planned, or what happened",
			"latch report change 7 change-7.pdf", 2, 2, reportChange,
		},
		{
			"outside", "", "what was changed on devices behind the service's back, and is to be decided",
			"latch outside\nlatch outside --all --device saltern-quay", 0, 0, outsideList,
		},
		{
			"outside show", "NUMBER",
			"one outside change: what changed, who did it as far as the device tells, and when it must have been",
			"latch outside show 3", 1, 1, outsideShow,
		},
		{
			"outside adopt", "NUMBER NOTE", "take an outside change as it is",
			`latch outside adopt 3 "Joss, at the console, while the line was down"`, 2, 100, outsideAdopt,
		},
		{
			"outside push-back", "NUMBER",
			"open a change that takes an outside change back, and nothing that came after it",
			"latch outside push-back 3 --ticket TF-260", 1, 1, outsidePushBack,
		},
		{
			"outside open", "NUMBER [DEVICE...]",
			"open a change that goes on from an outside change: the same on other devices, or a draft",
			"latch outside open 3 saltern-slip", 1, 100, outsideOpen,
		},
		{
			"outside silence", "PATH", "say of a path that it always moves and needs no decision",
			`latch outside silence /system/ntp --device saltern-quay --note "set by the clock's own protocol"`, 1, 1,
			outsideSilence,
		},
		{"outside silences", "", "the paths that always move", "latch outside silences", 0, 0, outsideSilences},
		{"outside unsilence", "NUMBER", "take a silence back", "latch outside unsilence 2", 1, 1, outsideUnsilence},
		{
			"audit", "[SEARCH...]",
			"who did what and when, newest first: words that stand in it, and who: device: site: path: change: " +
				"ticket: kind: outcome: address: entry: since: until:",
			"latch audit who:mara since:7d\nlatch audit 'device:saltern-* path:/interfaces -kind:edit \"port 3\"'", 0,
			100, auditList,
		},
		{"audit show", "ENTRY", "one entry, whole", "latch audit show 12", 1, 1, auditShow},
		{
			"audit verify", "",
			"check that the record was not altered: vouched for from outside (exit 0), consistent in itself (6), " +
				"altered (1)",
			"latch audit verify\nlatch audit verify --checkpoint checkpoint.txt\nlatch audit verify --file " +
				"ledger.jsonl --checkpoint checkpoint.txt --key KEY",
			0, 0, auditVerify,
		},
		{
			"audit checkpoint", "", "sign what the record is now, to be kept elsewhere",
			"latch audit checkpoint > checkpoint.txt", 0, 0, auditCheckpoint,
		},
		{
			"audit key", "", "the key that signs the record: what others check it by", "latch audit key > record.pub",
			0, 0, auditKey,
		},
		{
			"audit prove", "[ENTRY]",
			"a file that shows anybody that an entry is in the record, or that it goes on from a checkpoint",
			"latch audit prove 31 --to entry-31.proof\nlatch audit prove --since checkpoint.txt --to goes-on.txt", 0, 1,
			auditProve,
		},
		{
			"audit check", "FILE", "check such a file, without the service",
			"latch audit check entry-31.proof --key record.pub\nlatch audit check goes-on.txt --since checkpoint.txt " +
				"--key record.pub",
			1, 1, auditCheck,
		},
		{
			"witness", "", "watch over the records of services from another machine",
			"latch witness --dir /var/lib/witness --listen 198.51.100.30:8660 --log record.pub", 0, 0, runWitness,
		},
		{
			"audit export", "FILE [SEARCH...]", "what a search finds, as CSV or JSON Lines",
			"latch audit export november.csv since:2026-11-01\nlatch audit export ledger.jsonl --format jsonl", 1, 100,
			auditExport,
		},
		{
			"audit save", "NAME SEARCH...", "keep a search under a name",
			"latch audit save nights 'kind:commit device:saltern-*' --shared", 2, 100, auditSave,
		},
		{"audit saved", "", "the searches that are kept", "latch audit saved", 0, 0, auditSaved},
		{"audit forget", "NAME", "forget a search", "latch audit forget nights", 1, 1, auditForget},
		{
			"receiver list", "", "who is told of entries of the ledger, and how that goes", "latch receiver list", 0, 0,
			receiverList,
		},
		{
			"receiver add", "NAME PLACE [SEARCH...]",
			"tell somebody of what a search finds, from now on: syslog, a webhook, or mail",
			"latch receiver add loghost tls://192.0.2.5:6514 --authority ca.pem\nlatch receiver add pager " +
				"https://pager.example/hook kind:revision.outside,change.reverted --secret-file hook.secret\nlatch " +
				"receiver add office smtp://192.0.2.25:25 outcome:failed --from latch@tidewell.example --to " +
				"office@tidewell.example",
			2, 100, receiverAdd,
		},
		{
			"receiver set", "NAME SEARCH...", "change what somebody is told of",
			"latch receiver set office kind:change", 2, 100, receiverSet,
		},
		{
			"receiver try", "NAME", "tell somebody something now, and see what comes of it",
			"latch receiver try office", 1, 1, receiverTry,
		},
		{
			"receiver retire", "NAME", "tell somebody nothing any more", "latch receiver retire office", 1, 1,
			receiverRetire,
		},
		{
			"account add", "NAME", "make an account, and say what it may do",
			"latch account add wren --may read,audit --password-file pw\nlatch account add joss --may read --may " +
				"stage,commit@site=Saltern --password-file pw",
			1, 1, accountAdd,
		},
		{
			"account may", "NAME", "what an account may do: add to it, take from it, or say it all",
			"latch account may joss --add approve@tag=edge --drop commit@site=Saltern", 1, 1, accountMay,
		},
		{
			"account password", "[NAME]", "another password: one's own, or as an administrator somebody's",
			"latch account password\nlatch account password wren --password-file pw", 0, 1, accountPassword,
		},
		{
			"account reset-factors", "NAME", "take the second factors of somebody away who lost them",
			"latch account reset-factors joss", 1, 1, accountResetFactors,
		},
		{
			"factor list", "", "your second factors: what you show beside your password", "latch factor list", 0, 0,
			factorList,
		},
		{
			"factor add", "NAME", "set up an authenticator app as a second factor; passkeys are set up in the console",
			"latch factor add phone", 1, 1, factorAdd,
		},
		{"factor drop", "ID", "take a second factor away", "latch factor drop 5f2c81aa", 1, 1, factorDrop},
		{
			"factor codes", "", "have other recovery codes made; those of before are worthless", "latch factor codes",
			0, 0, factorCodes,
		},
		{
			"factor prove", "[CODE]", "show your second factor anew, for what is grave; it counts for five minutes",
			"latch factor prove 123456", 0, 1, factorProve,
		},
		{"account close", "NAME", "close an account for good", "latch account close wren", 1, 1, accountClose},
		{"rule list", "", "what is not committed without the agreement of others", "latch rule list", 0, 0, ruleList},
		{
			"rule add", "", "have changes need the agreement of others than those who worked on them",
			"latch rule add --on tag=edge --path /acls --persons 1 --emergency\nlatch rule add --on administration", 0,
			0, ruleAdd,
		},
		{
			"proposal list", "", "acts of administration that wait until others agree, where a rule asks for that",
			"latch proposal list", 0, 0, proposalList,
		},
		{
			"proposal agree", "NUMBER", "agree to one; with the last agreement it is done", "latch proposal agree 1", 1,
			1, proposalAgree,
		},
		{"proposal drop", "NUMBER", "drop one", "latch proposal drop 1", 1, 1, proposalDrop},
		{"rule drop", "RULE", "take a rule away", "latch rule drop 2", 1, 1, ruleDrop},
		{
			"emergency list", "", "commits without the agreement they needed, that nobody looked at since",
			"latch emergency list", 0, 0, emergencyList,
		},
		{
			"emergency review", "NUMBER TEXT", "say what you found who looked at one",
			"latch emergency review 1 \"It was right; the rule is too strict at night.\"", 2, 100, emergencyReview,
		},
		{
			"token list", "", "the sessions and tokens that let in: one's own, or for an administrator all",
			"latch token list", 0, 0, tokenList,
		},
		{
			"token add", "NAME", "make a token for a machine, that may what you may, or less; it is shown once",
			"latch token add nightly --may read --until 2027-03-31", 1, 1, tokenAdd,
		},
		{"token end", "ID", "end a session or token", "latch token end 5f2c81aa", 1, 1, tokenEnd},
		{"account list", "", "all accounts", "latch account list", 0, 0, accountList},
		{
			"completion", "SHELL", "the completion script of a shell: bash, zsh or fish",
			"latch completion bash > ~/.local/share/bash-completion/completions/latch", 1, 1, completion,
		},
		{
			"complete", "[WORD...]", "what a command line may go on with; shells ask it",
			"latch complete put 7 northmole-harbour /inter", 0, 1000, complete,
		},
		{
			"login", "", "sign in", "latch login --server http://127.0.0.1:8640 --user mara --password-file pw", 0, 0,
			login,
		},
		{"logout", "", "sign out", "latch logout", 0, 0, logout},
		{"whoami", "", "which account this is", "latch whoami", 0, 0, whoami},
	}
}
