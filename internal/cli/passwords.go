package cli

import (
	"github.com/urfave/cli/v3"
)

func passwordFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{
			Name:  "passwords",
			Usage: "for reset-password: a new `FILE` for the new passwords, readable by its owner only; a folder with --passwords-each",
		},
		&cli.StringFlag{Name: "passwords-each", Usage: "a file for each person, or each manager, in that folder, as `WHO`: person or manager"},
		&cli.StringSliceFlag{
			Name:  "passwords-for",
			Usage: "encrypt what is written there (age) for a `RECIPIENT`: age1…, an SSH public key, or a file of them",
		},
	}
}
