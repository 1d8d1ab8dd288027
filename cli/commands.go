package cli

import "slices"

// commands are the verbs, daily ones first.
func commands() []command {
	return slices.Concat(changeCommands(), historyCommands(), deviceCommands(), recordCommands(), accessCommands())
}
