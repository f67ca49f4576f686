package cli

import (
	"slices"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/batch"
)

// actionOptions are the options of stage that go with some actions only.
var actionOptions = []struct{ actions, options []string }{
	{[]string{batch.Rename}, []string{"given", "family", "display", "logon", "mail", "principal", "keep"}},
	{[]string{batch.Move}, []string{"to", "on-collision"}},
	{[]string{batch.Describe}, []string{"text"}},
	{[]string{batch.Expire}, []string{"expires"}},
	{[]string{batch.JoinGroup, batch.LeaveGroup}, []string{"group"}},
	{[]string{batch.ResetPassword}, []string{"unlock"}},
	{[]string{batch.Delete}, []string{"even-enabled"}},
}

// actions are what can be staged, with what stands behind each on the command line.
var actions = []struct{ name, usage, args string }{
	{batch.Disable, "switch accounts off", "[ACCOUNT…]"},
	{batch.Enable, "switch accounts on again", "[ACCOUNT…]"},
	{batch.Unlock, "lift the lock that wrong passwords have made", "[ACCOUNT…]"},
	{batch.Describe, "write a description, such as why and since when an account is disabled", "[ACCOUNT…] --text TEXT"},
	{batch.Expire, "give accounts an expiry date", "[ACCOUNT…] --expires DATE"},
	{batch.Hide, "take accounts out of the address lists of the mail system", "[ACCOUNT…]"},
	{batch.Unmark, "take the mark off entries that are no longer privileged, and let them inherit permissions again", "[ACCOUNT…]"},
	{batch.JoinGroup, "put accounts into groups", "[ACCOUNT…] --group GROUP"},
	{batch.LeaveGroup, "take accounts out of groups", "[ACCOUNT…] --group GROUP"},
	{batch.LeaveGroups, "take accounts out of all their groups", "[ACCOUNT…]"},
	{batch.LeaveRole, "take accounts out of the role that disables them (389 Directory Server)", "[ACCOUNT…]"},
	{batch.ResetPassword, "give accounts a new password, to be changed at the next sign-in", "[ACCOUNT…]"},
	{batch.Move, "move entries into a container", "[ACCOUNT…] --to OU"},
	{batch.Delete, "delete accounts that have been disabled long enough; empty groups, OUs and unlinked policies", "[ACCOUNT…]"},
	{batch.SetHomeAside, "rename the home folders of disabled accounts into a holding folder", "[ACCOUNT…]"},
	{batch.Set, "give an attribute a value, or correct what is misspelt or not as the roster says", "[ATTRIBUTE=VALUE] [ACCOUNT…]"},
	{batch.Add, "give an attribute one more value", "ATTRIBUTE=VALUE ACCOUNT…"},
	{batch.Clear, "take the values of an attribute away, or one of them", "ATTRIBUTE[=VALUE] ACCOUNT…"},
	{batch.Fill, "fill a blank attribute by a rule, or from the roster", "ATTRIBUTE RULE [ACCOUNT…]"},
	{batch.Rename, "change somebody's name, and what follows from it", "ACCOUNT --family NAME"},
	{batch.ArchiveHome, "archive and remove home folders that were held long enough", "[ACCOUNT…]"},
}

// actionCommands are the actions as commands of stage. Their options are those of stage.
func (a *app) actionCommands() (all []*cli.Command) {
	for _, one := range actions {
		all = append(all, &cli.Command{Name: one.name, Usage: one.usage, ArgsUsage: one.args, Action: a.stage, Description: actionHelp(one.name)})
	}
	return all
}

// actionHelp is what there is to say of an action besides its options.
func actionHelp(name string) string {
	if text, err := helpTexts.ReadFile("help/stage_" + name + ".txt"); err == nil {
		return string(text)
	}
	if slices.Contains(batch.ActionNames, name) {
		return "Several actions are staged at once with commas between them: yardbroom stage disable,leave-groups,move …"
	}
	return ""
}

// stagedWords are the action that is staged and what stands behind it.
func stagedWords(cmd *cli.Command) (action string, args []string) {
	if cmd.Name != "stage" {
		return cmd.Name, cmd.Args().Slice()
	}
	return cmd.Args().First(), cmd.Args().Tail()
}
