package cli

// commands are the verbs, daily ones first.
func commands() []command {
	return []command{
		{"open", "TITLE", "start a change, prints its number", `latch open "Bigger frames to Saltern" --ticket TF-214`, 1, 1, openChange},
		{"put", "CHANGE DEVICE PATH [VALUE]", "stage one value, list entry or container", "latch put 7 northmole-harbour /interfaces/interface=port1/ipv4/mtu 9000", 3, 4, put},
		{"delete", "CHANGE DEVICE PATH", "stage the deletion of what is at a path", "latch delete 7 northmole-harbour /interfaces/interface=port4", 3, 3, deletePath},
		{"unstage", "CHANGE EDIT", "take one staged edit back", "latch unstage 7 12", 2, 2, unstage},
		{"preview", "CHANGE", "the difference and every verdict on it", "latch preview 7 --context 3", 1, 1, preview},
		{"commit", "CHANGE", "apply on hold: it goes back by itself unless confirmed", "latch commit 7 --hold 10m", 1, 1, commit},
		{"confirm", "CHANGE", "keep what is on hold", "latch confirm 7", 1, 1, confirm},
		{"revert", "CHANGE", "go back now", "latch revert 7", 1, 1, revert},
		{"watch", "CHANGE", "follow a commit until it is decided", "latch watch 7", 1, 1, watch},
		{"show", "CHANGE", "a change and how it stands, device by device", "latch show 7", 1, 1, showChange},
		{"changes", "", "the changes you may see, newest first", "latch changes", 0, 0, changes},
		{"drop", "CHANGE", "abandon a change that is on no device", "latch drop 7", 1, 1, drop},
		{"config", "DEVICE [PATH]", "what is there", "latch config northmole-harbour /interfaces/interface=port1\nlatch config northmole-harbour --from startup --xml", 1, 2, config},
		{"mend", "CHANGE FINDING", "stage the edit that a finding of the preview offers", "latch mend 7 1", 2, 2, mend},
		{"check", "FILE", "what is wrong with a configuration in a file", "latch check new.outline --device northmole-harbour\nlatch check new.xml --modules yang/", 1, 1, checkFile},
		{"compare", "A B", "two configurations: files, or devices as NAME or NAME@startup", "latch compare northmole-harbour northmole-harbour@startup\nlatch compare old.xml new.json --modules yang/ --as unified", 2, 2, compare},
		{"convert", "FILE", "a configuration in another format", "latch convert config.xml --to outline --modules yang/", 1, 1, convert},
		{"devices", "", "all devices and how they are", "latch devices", 0, 0, devices},
		{"device show", "NAME", "one device", "latch device show northmole-harbour", 1, 1, deviceShow},
		{"device add", "NAME", "add a device", "latch device add northmole-harbour --address 192.0.2.11:830 --user harbour --password-file pw --site Northmole --role router", 1, 1, deviceAdd},
		{"device trust", "NAME", "show a device's host key, ask, keep it", "latch device trust northmole-harbour", 1, 1, deviceTrust},
		{"audit", "", "who did what and when, newest first", "latch audit --device northmole-harbour --limit 20", 0, 0, auditList},
		{"audit verify", "", "check that the record was not altered", "latch audit verify", 0, 0, auditVerify},
		{"account add", "NAME", "make an account: viewer, operator or admin", "latch account add wren --role viewer --password-file pw", 1, 1, accountAdd},
		{"account list", "", "all accounts", "latch account list", 0, 0, accountList},
		{"login", "", "sign in", "latch login --server http://127.0.0.1:8640 --user mara --password-file pw", 0, 0, login},
		{"logout", "", "sign out", "latch logout", 0, 0, logout},
		{"whoami", "", "which account this is", "latch whoami", 0, 0, whoami},
	}
}
