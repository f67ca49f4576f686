package cli

import (
	"github.com/urfave/cli/v3"
)

func passwordFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{
			Name:  "passwords",
			Usage: "for reset-password: a new `FILE` for the new passwords, readable by its owner only",
		},
		&cli.StringSliceFlag{
			Name:  "passwords-for",
			Usage: "encrypt that file (age) for a `RECIPIENT`: age1…, an SSH public key, or a file of them",
		},
	}
}
