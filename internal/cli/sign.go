package cli

import (
	"context"
	"fmt"
	"io"
	"os"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/batch"
	"yardbroom/internal/render"
)

func (a *app) signCommand() *cli.Command {
	return &cli.Command{
		Name: "sign", Usage: "agree to a batch as it is, with an SSH key", ArgsUsage: "BATCH",
		Description: help("sign", "namespace", batch.SignatureNamespace),
		Flags: []cli.Flag{
			&cli.StringFlag{
				Name:  "key",
				Usage: "the private key's `FILE`, or the public one's where the agent holds it",
			},
			&cli.StringFlag{
				Name:  "file",
				Usage: "sign an exported batch, a JSON `FILE`, instead of one of the state folder",
			},
			&cli.StringFlag{Name: "signature", Usage: "take in a signature made elsewhere, from a `FILE`"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if file := cmd.String("file"); file != "" {
				if cmd.Args().Present() || cmd.String("signature") != "" {
					return usage("--file stands alone: the signature is written beside the file")
				}
				return a.signFile(cmd, file)
			}
			return a.signBatch(ctx, cmd)
		},
	}
}

func (a *app) signBatch(ctx context.Context, cmd *cli.Command) error {
	b, err := a.batchNamed(ctx, cmd)
	if err != nil {
		return err
	}
	var armored []byte
	if file := cmd.String("signature"); file != "" {
		if armored, err = os.ReadFile(file); err != nil {
			return err
		}
	}
	sig, err := a.work.Sign(ctx, b, cmd.String("key"), armored)
	if err != nil {
		return err
	}
	agreed, err := a.work.Agreement(ctx, b)
	if err != nil {
		return err
	}
	fmt.Fprintf(a.out, "Batch %d is signed by %s (%s).\nSignatures: %s\n", b.ID, render.Visible(sig.Principal), sig.Key,
		render.Visible(agreed.String()))
	return nil
}

// signFile signs an exported batch, and shows what is signed.
func (a *app) signFile(cmd *cli.Command, file string) error {
	in, err := os.Open(file)
	if err != nil {
		return fmt.Errorf("--file: %w", err)
	}
	defer in.Close()
	b, err := batch.ReadExported(in)
	if err != nil {
		return fmt.Errorf("--file %s: %w", file, err)
	}
	armored, err := a.work.SignWith(cmd.String("key"), b, nil)
	if err != nil {
		return err
	}
	text, err := b.Statement()
	if err != nil {
		return err
	}
	if err := a.result(file+".sig", func(w io.Writer) error { _, err := w.Write(armored); return err }); err != nil {
		return err
	}
	fmt.Fprintf(a.out, "%s\nSigned, in %s.sig; send it back.\n", render.Visible(string(text)), file)
	return nil
}
