package cli

// accessCommands are about accounts, rules, tokens, the client itself.
func accessCommands() []command {
	return []command{
		{
			name: "account add", args: "NAME", min: 1, max: 1, setup: accountAdd,
			summary: "make an account, and say what it may do",
			example: "latch account add wren --may read,audit --password-file pw\n" +
				"latch account add joss --may read --may stage,commit@site=Saltern --password-file pw",
		},
		{
			name: "account may", args: "NAME", min: 1, max: 1, setup: accountMay,
			summary: "what an account may do: add to it, take from it, or say it all",
			example: "latch account may joss --add approve@tag=edge --drop commit@site=Saltern",
		},
		{
			name: "account password", args: "[NAME]", max: 1, setup: accountPassword,
			summary: "another password: one's own, or as an administrator somebody's",
			example: "latch account password\n" +
				"latch account password wren --password-file pw",
		},
		{
			name: "account reset-factors", args: "NAME", min: 1, max: 1, setup: accountResetFactors,
			summary: "remove the second factors of somebody who lost them",
			example: "latch account reset-factors joss",
		},
		{
			name: "factor list", setup: factorList,
			summary: "your second factors: what you show beside your password",
			example: "latch factor list",
		},
		{
			name: "factor add", args: "NAME", min: 1, max: 1, setup: factorAdd,
			summary: "set up an authenticator app as a second factor; passkeys are set up in the console",
			example: "latch factor add phone",
		},
		{
			name: "factor drop", args: "ID", min: 1, max: 1, setup: factorDrop,
			summary: "remove a second factor",
			example: "latch factor drop 5f2c81aa",
		},
		{
			name: "factor codes", setup: factorCodes,
			summary: "make new recovery codes; the old ones stop working",
			example: "latch factor codes",
		},
		{
			name: "factor prove", args: "[CODE]", max: 1, setup: factorProve,
			summary: "show your second factor again, for sensitive actions; it counts for five minutes",
			example: "latch factor prove 123456",
		},
		{
			name: "account close", args: "NAME", min: 1, max: 1, setup: accountClose,
			summary: "close an account permanently",
			example: "latch account close wren",
		},
		{
			name: "rule list", setup: ruleList,
			summary: "what is not committed without approval by others",
			example: "latch rule list",
		},
		{
			name: "rule add", setup: ruleAdd,
			summary: "require approval of changes by people who did not work on them",
			example: "latch rule add --on tag=edge --path /acls --persons 1 --emergency\n" +
				"latch rule add --on administration",
		},
		{
			name: "proposal list", setup: proposalList,
			summary: "administrative actions that wait for approval, where a rule asks for that",
			example: "latch proposal list",
		},
		{
			name: "proposal agree", args: "NUMBER", min: 1, max: 1, setup: proposalAgree,
			summary: "approve one; with the last approval it is done",
			example: "latch proposal agree 1",
		},
		{
			name: "proposal drop", args: "NUMBER", min: 1, max: 1, setup: proposalDrop,
			summary: "drop one",
			example: "latch proposal drop 1",
		},
		{
			name: "rule drop", args: "RULE", min: 1, max: 1, setup: ruleDrop,
			summary: "remove a rule",
			example: "latch rule drop 2",
		},
		{
			name: "emergency list", setup: emergencyList,
			summary: "commits without the approval they needed, not reviewed yet",
			example: "latch emergency list",
		},
		{
			name: "emergency review", args: "NUMBER TEXT", min: 2, max: 100, setup: emergencyReview,
			summary: "record what your review of one found",
			example: `latch emergency review 1 "It was right; the rule is too strict at night."`,
		},
		{
			name: "token list", setup: tokenList,
			summary: "the sessions and tokens that let in: one's own, or for an administrator all",
			example: "latch token list",
		},
		{
			name: "token add", args: "NAME", min: 1, max: 1, setup: tokenAdd,
			summary: "make a token for a machine, that may what you may, or less; it is shown once",
			example: "latch token add nightly --may read --until 2027-03-31",
		},
		{
			name: "token end", args: "ID", min: 1, max: 1, setup: tokenEnd,
			summary: "end a session or token",
			example: "latch token end 5f2c81aa",
		},
		{
			name: "account list", setup: accountList,
			summary: "all accounts",
			example: "latch account list",
		},
		{
			name: "completion", args: "SHELL", min: 1, max: 1, setup: completion,
			summary: "the completion script of a shell: bash, zsh or fish",
			example: "latch completion bash > ~/.local/share/bash-completion/completions/latch",
		},
		{
			name: "complete", args: "[WORD...]", max: 1000, setup: complete,
			summary: "what a command line may go on with; shells ask it",
			example: "latch complete put 7 northmole-harbour /inter",
		},
		{
			name: "login", setup: login,
			summary: "sign in",
			example: "latch login --server http://127.0.0.1:8640 --user mara --password-file pw",
		},
		{
			name: "use", args: "[NAME]", max: 1, setup: use,
			summary: "which of several servers is asked from now on; without a name, those there are",
			example: "latch use harbour\n" +
				"latch login --server https://latch.tidewell.example --user mara --name harbour",
		},
		{
			name: "logout", setup: logout,
			summary: "sign out",
			example: "latch logout",
		},
		{
			name: "whoami", setup: whoami,
			summary: "which account this is",
			example: "latch whoami",
		},
	}
}
