package cli

// changeCommands are about what is done to a change.
func changeCommands() []command {
	return []command{
		{
			name: "open", args: "TITLE", min: 1, max: 1, setup: openChange,
			summary: "start a change, prints its number",
			example: `latch open "Bigger frames to Saltern" --ticket TF-214`,
		},
		{
			name: "put", args: "CHANGE DEVICE PATH [VALUE]", min: 3, max: 4, setup: put,
			summary: "stage one value, list entry or container; several devices with commas",
			example: "latch put 7 northmole-harbour /interfaces/interface=port1/ipv4/mtu 9000\n" +
				"latch put 7 saltern-quay,saltern-slip /system/dns-resolver/search tidewell.example --only",
		},
		{
			name: "delete", args: "CHANGE DEVICE PATH", min: 3, max: 3, setup: deletePath,
			summary: "stage the deletion of what is at a path",
			example: "latch delete 7 northmole-harbour /interfaces/interface=port4",
		},
		{
			name: "move", args: "CHANGE DEVICE PATH WHERE", min: 4, max: 5, setup: move,
			summary: "stage another place for an entry whose order matters: first, last, before KEY, after KEY",
			example: "latch move 7 gannet-hall /acls/acl=hall-in/aces/ace=booking before nothing-else",
		},
		{
			name: "load", args: "CHANGE DEVICE FILE", min: 3, max: 3, setup: load,
			summary: "stage a file: XML, JSON or outline, format detected automatically; several devices with commas",
			example: "latch load 7 saltern-quay vlans.outline --mode merge\n" +
				"latch load 7 gannet-hall filters.xml --mode replace-at --at /acls",
		},
		{
			name: "copy", args: "CHANGE DEVICE FROM [PATH]", min: 3, max: 4, setup: copyFrom,
			summary: "stage what another device holds: FROM is NAME, NAME@startup, NAME@rev:4 or NAME@change:3",
			example: "latch copy 7 saltern-slip saltern-quay /vlans\n" +
				"latch copy 7 saltern-quay saltern-quay@rev:3 /system --mode replace-at",
		},
		{
			name: "edit", args: "CHANGE DEVICE [PATH]", min: 2, max: 3, setup: editText,
			summary: "stage by editing an outline in $EDITOR",
			example: "latch edit 7 gannet-hall /acls/acl=hall-in",
		},
		{
			name: "paths", args: "DEVICE [PATH]", min: 1, max: 2, setup: paths,
			summary: "how a path goes on by the device's schema, with types, values, defaults and what is there",
			example: "latch paths northmole-harbour /interfaces/interface=port1/ipv4/",
		},
		{
			name: "unstage", args: "CHANGE [EDIT]", min: 1, max: 2, setup: unstage,
			summary: "remove staged edits: one, a line, one person's, or all",
			example: "latch unstage 7 12\n" +
				"latch unstage 7 --by joss\n" +
				"latch unstage 7 --device saltern-quay --path /vlans/vlan=40",
		},
		{
			name: "preview", args: "CHANGE", min: 1, max: 1, setup: preview,
			summary: "the difference and every verdict on it",
			example: "latch preview 7 --context 3\n" +
				"latch preview 7 --validate --people\n" +
				"latch preview 7 --as unified --device saltern-quay",
		},
		{
			name: "rebase", args: "CHANGE [DEVICE...]", min: 1, max: 1000, setup: rebase,
			summary: "rebase a change onto what its devices hold now",
			example: "latch rebase 7 saltern-quay",
		},
		{
			name: "decide", args: "CHANGE DEVICE PATH mine|theirs", min: 4, max: 4, setup: decide,
			summary: "choose one side where the change and the device both changed the same",
			example: "latch decide 7 saltern-quay /system/contact theirs",
		},
		{
			name: "readdress", args: "CHANGE DEVICE HOST:PORT", min: 3, max: 3, setup: readdress,
			summary: "say that a change gives a device a new management address on purpose; - removes that",
			example: "latch readdress 7 saltern-quay 192.0.2.22:830",
		},
		{
			name: "share", args: "CHANGE ACCOUNT", min: 2, max: 2, setup: share,
			summary: "let somebody else work on a change",
			example: "latch share 7 joss",
		},
		{
			name: "unshare", args: "CHANGE ACCOUNT", min: 2, max: 2, setup: unshare,
			summary: "take somebody off a change",
			example: "latch unshare 7 joss",
		},
		{
			name: "note", args: "CHANGE TEXT", min: 2, max: 2, setup: note,
			summary: "write a note down with a change",
			example: `latch note 7 "The harbour office was told at 01:40."`,
		},
		{
			name: "rename", args: "CHANGE", min: 1, max: 1, setup: rename,
			summary: "give a change another title or ticket",
			example: "latch rename 7 --ticket TF-215",
		},
		{
			name: "commit", args: "CHANGE", min: 1, max: 1, setup: commit,
			summary: "apply on hold: it reverts by itself unless confirmed",
			example: "latch commit 7 --hold 10m\n" +
				`latch commit 7 --hold 5m --first saltern-quay --probe "tcp 192.0.2.12:22" --failed-probe ` +
				"revert\n" +
				"latch commit 7 --at 02:00 --zone Europe/Paris --confirm probes",
		},
		{
			name: "ask", args: "CHANGE [NOTE]", min: 1, max: 100, setup: askFor,
			summary: "ask others to approve a change; those who may see it from then on",
			example: `latch ask 7 "The ferry sails at six."`,
		},
		{
			name: "approve", args: "CHANGE", min: 1, max: 1, setup: approve,
			summary: "approve somebody else's change, as a preview shows it",
			example: "latch approve 7 --preview 3f9a0c11d2e4",
		},
		{
			name: "unapprove", args: "CHANGE", min: 1, max: 1, setup: unapprove,
			summary: "withdraw one's approval",
			example: "latch unapprove 7",
		},
		{
			name: "prepare", args: "CHANGE", min: 1, max: 1, setup: prepareAhead,
			summary: "do everything but the commit itself, ahead of its hour",
			example: "latch prepare 7 --for 2h --hold 10m",
		},
		{
			name: "extend", args: "CHANGE [DURATION]", min: 1, max: 2, setup: extend,
			summary: "more time until it reverts; -5m takes time away",
			example: "latch extend 7 20m\n" +
				"latch extend 7 --until 02:30",
		},
		{
			name: "confirm", args: "CHANGE", min: 1, max: 1, setup: confirm,
			summary: "confirm a commit on hold: the change stays",
			example: "latch confirm 7",
		},
		{
			name: "revert", args: "CHANGE", min: 1, max: 1, setup: revert,
			summary: "revert now",
			example: "latch revert 7",
		},
		{
			name: "accept", args: "CHANGE DEVICE", min: 2, max: 2, setup: accept,
			summary: "accept a device as it is that cannot be reverted",
			example: "latch accept 7 saltern-quay",
		},
		{
			name: "settle", args: "[CHANGE [DEVICE]...]", max: 1000, setup: settle,
			summary: "after a restore: what the devices hold of a change that was under way, and what is to be " +
				"with it; without a change, what is to be settled",
			example: "latch settle\n" +
				"latch settle 7\n" +
				"latch settle 7 saltern-quay --accept\n" +
				"latch settle 7 --revert\n" +
				"latch settle 7 --looked",
		},
		{
			name: "schedule", setup: schedule,
			summary: "scheduled commits and restarts",
			example: "latch schedule --all",
		},
		{
			name: "unschedule", args: "CHANGE|DEVICE", min: 1, max: 1, setup: unschedule,
			summary: "take a commit, or a device's restart, off the schedule",
			example: "latch unschedule 7",
		},
		{
			name: "watch", args: "[CHANGE]", max: 1, setup: watch,
			summary: "follow a commit until it is decided, or everything as it happens",
			example: "latch watch 7\n" +
				"latch watch --all",
		},
		{
			name: "now", setup: now,
			summary: "what waits for a decision: holds, approvals, outside changes, trouble, drafts",
			example: "latch now",
		},
		{
			name: "show", args: "CHANGE", min: 1, max: 1, setup: showChange,
			summary: "a change and how it stands, device by device",
			example: "latch show 7",
		},
		{
			name: "changes", setup: changes,
			summary: "the changes you may see, newest first",
			example: "latch changes",
		},
		{
			name: "drop", args: "CHANGE", min: 1, max: 1, setup: drop,
			summary: "abandon a change that is on no device",
			example: "latch drop 7",
		},
	}
}
