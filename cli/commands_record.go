package cli

// recordCommands are about commits, outside changes, the record, who is told of it.
func recordCommands() []command {
	return []command{
		{
			name: "commits", setup: commits,
			summary: "every commit: who staged, committed and confirmed it, how long it took, what it came to",
			example: "latch commits --who joss --since 30d\n" +
				"latch commits --device saltern-quay",
		},
		{
			name: "commits show", args: "COMMIT", min: 1, max: 1, setup: commitShow,
			summary: "one commit: what it made of each device, step by step",
			example: "latch commits show 4",
		},
		{
			name: "report", args: "FILE", min: 1, max: 1, setup: reportSpan,
			summary: "a report of a period, of all, of a device or of a person, as PDF or HTML",
			example: "latch report november.pdf --since 2026-11-01\n" +
				"latch report joss.html --who joss --since 30d",
		},
		{
			name: "report change", args: "CHANGE FILE", min: 2, max: 2, setup: reportChange,
			summary: "a change's report: what is planned, or what happened",
			example: "latch report change 7 change-7.pdf",
		},
		{
			name: "outside", setup: outsideList,
			summary: "outside changes: what was changed on devices without this service, and is to be decided",
			example: "latch outside\n" +
				"latch outside --all --device saltern-quay",
		},
		{
			name: "outside show", args: "NUMBER", min: 1, max: 1, setup: outsideShow,
			summary: "one outside change: what changed, who did it as far as the device tells, and when it must " +
				"have been",
			example: "latch outside show 3",
		},
		{
			name: "outside adopt", args: "NUMBER NOTE", min: 2, max: 100, setup: outsideAdopt,
			summary: "take an outside change as it is",
			example: `latch outside adopt 3 "Joss, at the console, while the line was down"`,
		},
		{
			name: "outside push-back", args: "NUMBER", min: 1, max: 1, setup: outsidePushBack,
			summary: "open a change that undoes an outside change, and nothing that came after it",
			example: "latch outside push-back 3 --ticket TF-260",
		},
		{
			name: "outside open", args: "NUMBER [DEVICE...]", min: 1, max: 100, setup: outsideOpen,
			summary: "open a change that goes on from an outside change: the same on other devices, or a draft",
			example: "latch outside open 3 saltern-slip",
		},
		{
			name: "outside silence", args: "PATH", min: 1, max: 1, setup: outsideSilence,
			summary: "say of a path that it always moves and needs no decision",
			example: `latch outside silence /system/ntp --device saltern-quay --note "set by the clock's own ` +
				`protocol"`,
		},
		{
			name: "outside silences", setup: outsideSilences,
			summary: "the paths that always move",
			example: "latch outside silences",
		},
		{
			name: "outside unsilence", args: "NUMBER", min: 1, max: 1, setup: outsideUnsilence,
			summary: "remove a silence",
			example: "latch outside unsilence 2",
		},
		{
			name: "audit", args: "[SEARCH...]", max: 100, setup: auditList,
			summary: "who did what and when, newest first: words that stand in it, and who: device: site: path: " +
				"change: ticket: kind: outcome: address: entry: since: until:",
			example: "latch audit who:mara since:7d\n" +
				`latch audit 'device:saltern-* path:/interfaces -kind:edit "port 3"'`,
		},
		{
			name: "audit show", args: "ENTRY", min: 1, max: 1, setup: auditShow,
			summary: "one entry, whole",
			example: "latch audit show 12",
		},
		{
			name: "audit verify", setup: auditVerify,
			summary: "check that the record was not altered: vouched for from outside (exit 0), consistent in " +
				"itself (6), altered (1)",
			example: "latch audit verify\n" +
				"latch audit verify --checkpoint checkpoint.txt\n" +
				"latch audit verify --file ledger.jsonl --checkpoint checkpoint.txt --key KEY",
		},
		{
			name: "audit checkpoint", setup: auditCheckpoint,
			summary: "sign the state of the record, to be stored elsewhere",
			example: "latch audit checkpoint > checkpoint.txt",
		},
		{
			name: "audit key", setup: auditKey,
			summary: "the key that signs the record: what others check it by",
			example: "latch audit key > record.pub",
		},
		{
			name: "audit prove", args: "[ENTRY]", max: 1, setup: auditProve,
			summary: "a file that shows anybody that an entry is in the record, or that it goes on from a " +
				"checkpoint",
			example: "latch audit prove 31 --to entry-31.proof\n" +
				"latch audit prove --since checkpoint.txt --to goes-on.txt",
		},
		{
			name: "audit check", args: "FILE", min: 1, max: 1, setup: auditCheck,
			summary: "check such a file, without the service",
			example: "latch audit check entry-31.proof --key record.pub\n" +
				"latch audit check goes-on.txt --since checkpoint.txt --key record.pub",
		},
		{
			name: "witness", setup: runWitness,
			summary: "watch over the records of services from another machine",
			example: "latch witness --dir /var/lib/witness --listen 198.51.100.30:8660 --log record.pub",
		},
		{
			name: "audit export", args: "FILE [SEARCH...]", min: 1, max: 100, setup: auditExport,
			summary: "what a search finds, as CSV or JSON Lines",
			example: "latch audit export november.csv since:2026-11-01\n" +
				"latch audit export ledger.jsonl --format jsonl",
		},
		{
			name: "audit save", args: "NAME SEARCH...", min: 2, max: 100, setup: auditSave,
			summary: "save a search under a name",
			example: "latch audit save nights 'kind:commit device:saltern-*' --shared",
		},
		{
			name: "audit saved", setup: auditSaved,
			summary: "the saved searches",
			example: "latch audit saved",
		},
		{
			name: "audit forget", args: "NAME", min: 1, max: 1, setup: auditForget,
			summary: "forget a search",
			example: "latch audit forget nights",
		},
		{
			name: "receiver list", setup: receiverList,
			summary: "who is sent entries of the record, and how that goes",
			example: "latch receiver list",
		},
		{
			name: "receiver add", args: "NAME PLACE [SEARCH...]", min: 2, max: 100, setup: receiverAdd,
			summary: "send what a search finds to somebody, from now on: syslog, a webhook or mail",
			example: "latch receiver add loghost tls://192.0.2.5:6514 --authority ca.pem\n" +
				"latch receiver add pager https://pager.example/hook kind:revision.outside,change.reverted " +
				"--secret-file hook.secret\n" +
				"latch receiver add office smtp://192.0.2.25:25 outcome:failed --from latch@tidewell.example " +
				"--to office@tidewell.example",
		},
		{
			name: "receiver set", args: "NAME SEARCH...", min: 2, max: 100, setup: receiverSet,
			summary: "change what a receiver is sent",
			example: "latch receiver set office kind:change",
		},
		{
			name: "receiver try", args: "NAME", min: 1, max: 1, setup: receiverTry,
			summary: "send a test message now, and show the answer",
			example: "latch receiver try office",
		},
		{
			name: "receiver retire", args: "NAME", min: 1, max: 1, setup: receiverRetire,
			summary: "stop sending to a receiver",
			example: "latch receiver retire office",
		},
	}
}
