package cli

// historyCommands are about configurations as they are and were, files, snapshots.
func historyCommands() []command {
	return []command{
		{
			name: "config", args: "DEVICE [PATH]", min: 1, max: 2, setup: config,
			summary: "a device's configuration, or what is at a path in it",
			example: "latch config northmole-harbour /interfaces/interface=port1\n" +
				"latch config northmole-harbour --from startup --xml",
		},
		{
			name: "fix", args: "CHANGE FINDING", min: 2, max: 2, setup: mend,
			summary: "stage the fix that a finding of the preview offers",
			example: "latch fix 7 1",
		},
		{
			name: "check", args: "FILE", min: 1, max: 1, setup: checkFile,
			summary: "what is wrong with a configuration in a file",
			example: "latch check new.outline --device northmole-harbour\n" +
				"latch check new.xml --modules yang/",
		},
		{
			name: "compare", args: "A B", min: 2, max: 2, setup: compare,
			summary: "compare two configurations: files, or devices as NAME or NAME@PLACE: startup, rev:N, " +
				"startup:N, " +
				"snapshot:NAME, at:TIME, before:N, change:N",
			example: "latch compare northmole-harbour northmole-harbour@startup\n" +
				"latch compare saltern-quay@rev:3 saltern-quay@snapshot:'Before winter' --as sides\n" +
				"latch compare old.xml new.json --modules yang/ --as unified",
		},
		{
			name: "moved", args: "FROM [TO]", min: 1, max: 2, setup: moved,
			summary: "what moved on many devices between two moments, in sum: snapshot:NAME, at:TIME, running",
			example: "latch moved snapshot:'Before winter' --site Saltern\n" +
				"latch moved at:2026-11-20T02:00:00Z running",
		},
		{
			name: "undo", args: "[CHANGE]", max: 1, setup: undo,
			summary: "a new change that undoes a confirmed one, and nothing that came after it",
			example: "latch undo 12\n" +
				"latch undo 12 --device saltern-quay --path /vlans/vlan=40\n" +
				"latch undo --by joss --since 2d",
		},
		{
			name: "restore", args: "[DEVICE] PLACE", min: 1, max: 2, setup: restore,
			summary: "stage a configuration, or parts of it, as it was: rev:N, snapshot:NAME, at:TIME, startup, " +
				"before:N",
			example: "latch restore saltern-quay rev:4\n" +
				"latch restore saltern-quay snapshot:'Before winter' --path /vlans --path " +
				"/system/dns-resolver\n" +
				"latch restore snapshot:7 --all",
		},
		{
			name: "export", args: "FILE [DEVICE...]", min: 1, max: 1000, setup: export,
			summary: "configurations as a bundle of instance data files (RFC 9195), with digests",
			example: "latch export saltern.tar --site Saltern\n" +
				"latch export winter.tar --from snapshot:'Before winter' --all --format json\n" +
				"latch export quay.xml saltern-quay --alone",
		},
		{
			name: "import", args: "FILE", min: 1, max: 1, setup: importFile,
			summary: "stage a configuration from a file: XML, JSON, outline or a bundle, format detected automatically",
			example: "latch import quay.xml --onto saltern-quay\n" +
				"latch import saltern.tar --device saltern-slip --path /vlans\n" +
				"latch import saltern.tar --all",
		},
		{
			name: "carry", args: "DEVICE[@PLACE] DEVICE", min: 2, max: 2, setup: carryOnto,
			summary: "stage one device's configuration on another; its own name and addresses stay",
			example: "latch carry saltern-quay saltern-slip\n" +
				"latch carry saltern-quay@rev:4 saltern-slip",
		},
		{
			name: "blame", args: "DEVICE [PATH]", min: 1, max: 2, setup: blameLines,
			summary: "who last set each line, with which change and ticket",
			example: "latch blame gannet-hall /acls\n" +
				"latch blame gannet-hall --gone",
		},
		{
			name: "history", args: "DEVICE PATH", min: 2, max: 2, setup: life,
			summary: "the life of one value, or of all below a path",
			example: "latch history saltern-quay /system/contact",
		},
		{
			name: "timeline", args: "DEVICE", min: 1, max: 1, setup: timeline,
			summary: "what happened to a device: changes, outside changes, snapshots, reverts",
			example: "latch timeline saltern-quay",
		},
		{
			name: "revisions", args: "DEVICE", min: 1, max: 1, setup: revisions,
			summary: "every configuration there was, with its cause and person",
			example: "latch revisions saltern-quay\n" +
				"latch revisions saltern-quay --startup",
		},
		{
			name: "snapshots", setup: snapshots,
			summary: "names for the state of devices at one moment, newest first",
			example: "latch snapshots --device saltern-quay",
		},
		{
			name: "snapshot take", args: "NAME [DEVICE...]", min: 1, max: 1000, setup: snapshotTake,
			summary: "name the state that devices are in now",
			example: "latch snapshot take \"Before the winter timetable\" --site Saltern\n" +
				`latch snapshot take "Vor der Übergabe" saltern-quay saltern-slip --note "all quiet"`,
		},
		{
			name: "snapshot show", args: "SNAPSHOT", min: 1, max: 1, setup: snapshotShow,
			summary: "what a snapshot holds, and whether its moment was clean",
			example: "latch snapshot show 7\n" +
				`latch snapshot show "Before the winter timetable"`,
		},
		{
			name: "snapshot rename", args: "SNAPSHOT NAME", min: 2, max: 2, setup: snapshotRename,
			summary: "rename a snapshot",
			example: `latch snapshot rename 7 "Winter, first try"`,
		},
		{
			name: "snapshot note", args: "SNAPSHOT TEXT", min: 2, max: 2, setup: snapshotNote,
			summary: "write a note down with a snapshot",
			example: `latch snapshot note 7 "the spare trunk was unplugged"`,
		},
		{
			name: "snapshot protect", args: "SNAPSHOT", min: 1, max: 1, setup: snapshotProtect,
			summary: "protect a snapshot from being retired",
			example: "latch snapshot protect 7",
		},
		{
			name: "snapshot retire", args: "SNAPSHOT", min: 1, max: 1, setup: snapshotRetire,
			summary: "take a snapshot out of the lists; what it named stays",
			example: "latch snapshot retire 7",
		},
		{
			name: "convert", args: "FILE", min: 1, max: 1, setup: convert,
			summary: "a configuration in another format",
			example: "latch convert config.xml --to outline --modules yang/",
		},
	}
}
