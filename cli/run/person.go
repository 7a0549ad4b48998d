package run

import (
	"uparrot/cli/account"
	"uparrot/cli/shell"
	"uparrot/core/perform"
	"uparrot/core/procedure"
)

// secondAttempt is who is asked about failed steps; nil where nobody sits there.
func (c *RunCommand) secondAttempt(file *procedure.File, operator perform.Operator) *account.Asker {
	if !c.sits(operator) || c.askFor <= 0 || c.Keeps.Quiet {
		return nil
	}
	return &account.Asker{Person: operator.(*account.Person), File: file, Most: c.askFor, Books: account.Sums(account.Phrasebooks(file))}
}

// sits reports whether the operator is a person who sits at a terminal.
func (c *RunCommand) sits(operator perform.Operator) bool {
	_, isPerson := operator.(*account.Person)
	return isPerson && shell.IsTerminal(c.In) && shell.IsTerminal(c.Err.W)
}
