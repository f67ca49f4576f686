package cli

import (
	"context"
	"fmt"

	docs "github.com/urfave/cli-docs/v3"
	"github.com/urfave/cli/v3"

	"yardbroom/docs/schema"
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

// schemaCommand prints the schemas of what is written for programs.
func (a *app) schemaCommand() *cli.Command {
	return &cli.Command{
		Name: "schema", Usage: "print the JSON Schema of a result, or of the settings", ArgsUsage: "[NAME]",
		Description: help("schema"),
		Action: func(_ context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() > 1 {
				return usage("give the name of one schema")
			}
			if !cmd.Args().Present() {
				for _, name := range schema.Names() {
					fmt.Fprintln(a.out, name)
				}
				return nil
			}
			text, err := schema.Named(cmd.Args().First())
			if err != nil {
				return usage("%w", err)
			}
			_, err = a.out.Write(text)
			return err
		},
	}
}
