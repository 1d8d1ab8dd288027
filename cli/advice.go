package cli

import (
	"fmt"
	"strings"

	"oakenlatch/core/advice"
	"oakenlatch/wire"
)

// advised are the commands that do what the service advises. Words in capitals are its arguments, or for the person to
// fill in; what stands in brackets is left out where its arguments are not given.
var advised = map[advice.Action]string{
	advice.SignIn:       "login --server URL --user NAME",
	advice.ProveFactor:  "factor prove",
	advice.ListFactors:  "factor list",
	advice.AddFactor:    "factor add NAME",
	advice.ResetFactors: "account reset-factors ACCOUNT",
	advice.ListAccounts: "account list",
	advice.AllowRole:    "account may ACCOUNT --add ROLE",
	advice.ListTokens:   "token list",

	advice.ListRules:       "rule list",
	advice.ListProposals:   "proposal list",
	advice.ListEmergencies: "emergency list",

	advice.ListDevices:    "devices",
	advice.ShowDevice:     "device show DEVICE",
	advice.TrustDevice:    "device trust DEVICE",
	advice.ReplaceDevice:  "device replace DEVICE --address ADDRESS --user USER",
	advice.ListSessions:   "device sessions DEVICE",
	advice.ClearCandidate: "device clear-candidate DEVICE",
	advice.AskHolder:      "reserve ask DEVICE TEXT",
	advice.ReleaseDevice:  "release DEVICE",

	advice.ReadConfig:    "config DEVICE [PATH]",
	advice.Compare:       "compare LEFT RIGHT",
	advice.ListRevisions: "revisions DEVICE",
	advice.ListStartups:  "revisions --startup DEVICE",
	advice.Restore:       "restore DEVICE PLACE",
	advice.RestorePart:   "restore DEVICE PLACE --path PATH",

	advice.ListSnapshots:     "snapshots",
	advice.ShowSnapshot:      "snapshot show SNAPSHOT",
	advice.UnprotectSnapshot: "snapshot protect SNAPSHOT --off",
	advice.ListStencils:      "stencils",
	advice.ShowStencil:       "stencil show STENCIL",
	advice.ListOutside:       "outside --all",
	advice.ShowOutside:       "outside show NUMBER",
	advice.ListSilences:      "outside silences",
	advice.ListReceivers:     "receiver list",
	advice.ListArchives:      "archive list",
	advice.AddArchive:        "archive add NAME",
	advice.TrustArchive:      "archive trust ARCHIVE",
	advice.VerifyArchive:     "archive verify ARCHIVE",
	advice.ListCopies:        "archive copies",
	advice.MendFromCopy:      "archive repair COPY",
	advice.VerifyRecord:      "audit verify",
	advice.VerifyAgainst:     "audit verify --checkpoint FILE",
	advice.WatchRecord:       "witness",
	advice.SignCheckpoint:    "audit checkpoint",
	advice.ListSearches:      "audit saved",
	advice.SearchHelp:        "audit --help",

	advice.ListChanges:       "changes",
	advice.OpenChange:        "open TITLE",
	advice.ShowChange:        "show CHANGE",
	advice.ShareChange:       "share CHANGE ACCOUNT",
	advice.Stage:             "put CHANGE DEVICE PATH VALUE",
	advice.StageAlso:         "put CHANGE DEVICE PATH VALUE --add",
	advice.StageOnly:         "put CHANGE DEVICE PATH VALUE --only",
	advice.StageDelete:       "delete CHANGE DEVICE PATH",
	advice.TakeBack:          "unstage CHANGE EDIT",
	advice.TakeBackPath:      "unstage CHANGE --device DEVICE --path PATH",
	advice.DecideConflict:    "decide CHANGE DEVICE PATH mine|theirs",
	advice.PreviewChange:     "preview CHANGE",
	advice.DropChange:        "drop CHANGE",
	advice.AskApproval:       "ask CHANGE",
	advice.ApproveChange:     "approve CHANGE",
	advice.Commit:            "commit CHANGE --hold 10m",
	advice.CommitCutOff:      "commit CHANGE --cut-off DEVICE",
	advice.CommitEmergency:   "commit CHANGE --emergency REASON",
	advice.ConfirmAllTheSame: "confirm CHANGE --despite-probes",
	advice.Unschedule:        "unschedule CHANGE",
	advice.ShowSchedule:      "schedule",
	advice.WatchCommit:       "watch CHANGE",
	advice.ListCommits:       "commits",
	advice.SettleChange:      "settle CHANGE",
	advice.SettleLost:        "settle CHANGE --looked",
	advice.UndoChange:        "undo CHANGE",
	advice.UndoPerson:        "undo --by PERSON --since TIME",
	advice.ListExpectations:  "expect list CHANGE",
	advice.DropExpectation:   "expect drop CHANGE NUMBER",
	advice.AcceptEffect:      "expect accept CHANGE DEVICE PLACE",
}

// commandFor is the command that does a step; "" where there is none.
func commandFor(s advice.Step) string {
	words := []string{"latch"}
	for _, w := range strings.Fields(advised[s.Action]) {
		name, optional := strings.CutPrefix(strings.TrimSuffix(w, "]"), "[")
		value, given := s.Args[strings.ToLower(name)]
		switch {
		case name != strings.ToUpper(name):
			words = append(words, w)
		case given:
			words = append(words, quoted(value))
		case !optional:
			words = append(words, w)
		}
	}
	if len(words) == 1 {
		return ""
	}
	return strings.Join(words, " ")
}

// InCommands are what to do next, in a line, with their commands.
func InCommands(list advice.Steps) string {
	texts := make([]string, len(list))
	for i, s := range list {
		if texts[i] = s.Text; commandFor(s) != "" {
			texts[i] = fmt.Sprintf("%s: %s", s.Text, commandFor(s))
		}
	}
	return strings.Join(texts, "; ")
}

// told is a refusal of the service with the commands that help.
func told(p *wire.Problem) string {
	if len(p.Next) == 0 {
		return p.Detail
	}
	return p.Detail + "; " + InCommands(p.Next)
}
