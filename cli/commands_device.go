package cli

// deviceCommands are about devices, stencils, archives, packet filters.
func deviceCommands() []command {
	return []command{
		{
			name: "reserve", args: "DEVICE", min: 1, max: 1, setup: reserve,
			summary: "reserve a device for yourself for a while",
			example: `latch reserve saltern-quay --for 2h --reason "new fibre on trunk1"`,
		},
		{
			name: "reserve ask", args: "DEVICE TEXT", min: 2, max: 2, setup: reserveAsk,
			summary: "ask whoever has a device reserved",
			example: `latch reserve ask saltern-quay "may I add a camera port before noon?"`,
		},
		{
			name: "reserve list", setup: reserveList,
			summary: "the devices that are reserved",
			example: "latch reserve list",
		},
		{
			name: "release", args: "DEVICE", min: 1, max: 1, setup: release,
			summary: "end a reservation; an administrator can end anybody's",
			example: "latch release saltern-quay",
		},
		{
			name: "stencils", setup: stencils,
			summary: "all stencils: pieces of configuration with blanks",
			example: "latch stencils",
		},
		{
			name: "stencil show", args: "STENCIL", min: 1, max: 1, setup: stencilShow,
			summary: "a stencil, its blanks, its versions, and the devices that use it",
			example: "latch stencil show clock --device saltern-quay",
		},
		{
			name: "stencil save", args: "STENCIL FILE", min: 2, max: 2, setup: stencilSave,
			summary: "save a new version; opens a change for the devices that use it",
			example: `latch stencil save clock clock.outline --note "two servers"`,
		},
		{
			name: "stencil bind", args: "STENCIL CHANGE DEVICE", min: 3, max: 3, setup: stencilBind,
			summary: "stage what a stencil sets on a device, with values for its blanks",
			example: `latch stencil bind uplink 7 saltern-quay --set port=trunk1 --set what="Fibre to Northmole"`,
		},
		{
			name: "stencil unbind", args: "STENCIL CHANGE DEVICE", min: 3, max: 3, setup: stencilUnbind,
			summary: "stage the removal of what a stencil set on a device",
			example: "latch stencil unbind clock 7 saltern-quay",
		},
		{
			name: "shared", setup: sharedList,
			summary: "values defined once for all stencils",
			example: "latch shared",
		},
		{
			name: "shared set", args: "NAME [ITEM...]", min: 1, max: 1000, setup: sharedSet,
			summary: "give a shared value its items; opens a change for the devices that use it",
			example: "latch shared set time-servers 203.0.113.123 203.0.113.124",
		},
		{
			name: "devices", setup: devices,
			summary: "all devices and how they are",
			example: "latch devices",
		},
		{
			name: "device show", args: "NAME", min: 1, max: 1, setup: deviceShow,
			summary: "one device",
			example: "latch device show northmole-harbour",
		},
		{
			name: "device add", args: "NAME", min: 1, max: 1, setup: deviceAdd,
			summary: "add a device",
			example: "latch device add northmole-harbour --address 192.0.2.11:830 --user harbour --password-file " +
				"pw --site Northmole --role router",
		},
		{
			name: "device trust", args: "NAME", min: 1, max: 1, setup: deviceTrust,
			summary: "show a device's host key, ask, and accept it",
			example: "latch device trust northmole-harbour",
		},
		{
			name: "device replace", args: "NAME", min: 1, max: 1, setup: deviceReplace,
			summary: "put another box in a device's place; its history goes on",
			example: "latch device replace saltern-quay --address 192.0.2.12:830 --user harbour --password-file pw",
		},
		{
			name: "device save", args: "NAME", min: 1, max: 1, setup: deviceSave,
			summary: "save what runs to startup, showing first what that adds",
			example: "latch device save saltern-quay",
		},
		{
			name: "device restart", args: "NAME", min: 1, max: 1, setup: deviceRestart,
			summary: "restart a device, showing first what would be lost",
			example: "latch device restart saltern-quay --at 04:00",
		},
		{
			name: "device sessions", args: "NAME", min: 1, max: 1, setup: deviceSessions,
			summary: "who is on a device, and which locks they hold",
			example: "latch device sessions saltern-quay",
		},
		{
			name: "device clear-candidate", args: "NAME", min: 1, max: 1, setup: deviceClear,
			summary: "discard what somebody left uncommitted on a device",
			example: "latch device clear-candidate saltern-quay",
		},
		{
			name: "device clock", args: "NAME", min: 1, max: 1, setup: deviceClock,
			summary: "a device's clock against the service's",
			example: "latch device clock saltern-quay",
		},
		{
			name: "device set", args: "NAME", min: 1, max: 1, setup: deviceSet,
			summary: "a device's settings",
			example: "latch device set saltern-quay --save no\n" +
				"latch device set saltern-quay --seen-as 192.0.2.12:830 --seen-from 198.51.100.10 --via " +
				"northmole-harbour",
		},
		{
			name: "backups", setup: backups,
			summary: "what is not saved to startup, and what has no copy on another machine",
			example: "latch backups",
		},
		{
			name: "archive list", setup: archiveList,
			summary: "where copies go, in the order in which archives are tried",
			example: "latch archive list",
		},
		{
			name: "archive add", args: "NAME", min: 1, max: 1, setup: archiveAdd,
			summary: "add a place for copies: a folder, an SFTP server, a git repository",
			example: "latch archive add away --sftp 198.51.100.20:22/archive --user copies --key-file key --every " +
				"24h\n" +
				"latch archive add log --git git@git.tidewell.example:network.git --key-file key\n" +
				"latch archive add share --folder /mnt/share --keep-last 50 --keep-days 400",
		},
		{
			name: "archive trust", args: "ARCHIVE", min: 1, max: 1, setup: archiveTrust,
			summary: "show the host key of an archive's server, ask, and accept it",
			example: "latch archive trust away",
		},
		{
			name: "archive set", args: "ARCHIVE", min: 1, max: 1, setup: archiveSet,
			summary: "when an archive is copied to, its place in the order, what it keeps",
			example: "latch archive set away --position 1 --every 12h\n" +
				"latch archive set share --retire",
		},
		{
			name: "archive copy", args: "[DEVICE...]", max: 1000, setup: archiveCopy,
			summary: "copy now what has no copy yet",
			example: "latch archive copy\n" +
				"latch archive copy saltern-quay --to share",
		},
		{
			name: "archive copies", setup: archiveCopies,
			summary: "the copies there are",
			example: "latch archive copies --device saltern-quay",
		},
		{
			name: "archive repair", args: "COPY", min: 1, max: 1, setup: archiveMend,
			summary: "repair a damaged stored configuration with its copy",
			example: "latch archive repair 12",
		},
		{
			name: "archive read", args: "COPY", min: 1, max: 1, setup: archiveRead,
			summary: "a copy as the archive has it, compared with its digest",
			example: "latch archive read 12",
		},
		{
			name: "archive verify", args: "ARCHIVE", min: 1, max: 1, setup: archiveVerify,
			summary: "read every copy back and compare it",
			example: "latch archive verify away",
		},
		{
			name: "archive restore", args: "ARCHIVE", min: 1, max: 1, setup: archiveRestore,
			summary: "rebuild devices and their history from an archive",
			example: "latch archive restore away",
		},
		{
			name: "expect", args: "CHANGE LINE...", min: 2, max: 100, setup: expect,
			summary: "state what traffic a change is meant to permit or deny; its preview answers, its commit " +
				"rests on it",
			example: "latch expect 7 permit tcp from 198.51.100.0/25 to 192.0.2.13 port 830 --at " +
				"gannet-hall/management-in\n" +
				"latch expect 7 deny any from 203.0.113.0/24",
		},
		{
			name: "expect list", args: "CHANGE", min: 1, max: 1, setup: expectList,
			summary: "what is expected of a change",
			example: "latch expect list 7",
		},
		{
			name: "expect drop", args: "CHANGE NUMBER", min: 2, max: 2, setup: expectDrop,
			summary: "remove an expectation",
			example: "latch expect drop 7 2",
		},
		{
			name: "expect accept", args: "CHANGE DEVICE PLACE", min: 3, max: 3, setup: expectAccept,
			summary: "accept by its name what a change does at a filter, or at INTERFACE DIRECTION, though nobody " +
				"expects it",
			example: "latch expect accept 7 gannet-hall management-in\n" +
				"latch expect accept 7 gannet-hall 'hall0 ingress'",
		},
		{
			name: "filter list", args: "DEVICE", min: 1, max: 1, setup: filterList,
			summary: "a device's packet filters, and where they work; or those of a FILE",
			example: "latch filter list gannet-hall\n" +
				"latch filter list new.xml --device gannet-hall",
		},
		{
			name: "filter show", args: "DEVICE/FILTER", min: 1, max: 1, setup: filterShow,
			summary: "what each rule of a filter decides, which are never reached or redundant, which clash, and " +
				"what can go",
			example: "latch filter show gannet-hall/management-in\n" +
				"latch filter show gannet-hall/hall-in --widest\n" +
				"latch filter show new.xml:hall-in --device gannet-hall",
		},
		{
			name: "filter trace", args: "DEVICE/FILTER PACKETS...", min: 2, max: 100, setup: filterTrace,
			summary: "what filters do with packets, which rule decides, and why not the ones before; several " +
				"filters with commas; of a file: FILE:FILTER",
			example: "latch filter trace gannet-hall/management-in tcp from 198.51.100.7 to 192.0.2.13 port 830",
		},
		{
			name: "filter compare", args: "DEVICE/FILTER DEVICE/FILTER", min: 2, max: 2, setup: filterCompare,
			summary: "how two filters differ, over all packets; of a file: FILE:FILTER",
			example: "latch filter compare gannet-hall@rev:1/management-in gannet-hall/management-in\n" +
				"latch filter compare gannet-hall/hall-in new.xml:hall-in --device gannet-hall",
		},
	}
}
