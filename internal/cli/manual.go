package cli

import (
	"context"
	"fmt"

	docs "github.com/urfave/cli-docs/v3"
	"github.com/urfave/cli/v3"
)

// manualCommand prints the manual page, which packages install.
func (a *app) manualCommand() *cli.Command {
	return &cli.Command{
		Name: "manual", Usage: "print the manual page, for man(1)",
		Action: func(_ context.Context, cmd *cli.Command) error {
			page, err := docs.ToManWithSection(cmd.Root(), 1)
			if err != nil {
				return err
			}
			_, err = fmt.Fprint(a.out, page)
			return err
		},
	}
}
