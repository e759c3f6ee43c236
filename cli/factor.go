package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/boombuler/barcode"
	"github.com/boombuler/barcode/qr"
	"github.com/spf13/cobra"
)

func personFactor() *cobra.Command {
	var off, stdin bool
	of := ""
	c := &cobra.Command{
		Use:   "second-factor",
		Short: "Set up a second factor for yourself, or take one off",
		Long: `Shows a QR code for an app on your phone that makes codes (TOTP, RFC 6238), and
asks for one of them. From then on a sign-in needs a code too. The recovery codes,
shown once, work once each in place of the app.

With --off it is taken off; an owner does that with --of for somebody who has lost
their phone. With --password-stdin the password and the code come on standard input,
a line each.`,
		Example: "  ullage person second-factor\n  ullage person second-factor --off",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			switch {
			case of != "":
				if err := cl.RemoveFactor(c.Context(), of); err != nil {
					return err
				}
				fmt.Fprintf(c.OutOrStdout(), "%s has no second factor any more, and is signed out.\n", of)
				return nil
			case off:
				p, err := askPasswords(c, stdin, "Password", "Code of the app, or a recovery code")
				if err != nil {
					return err
				}
				if err := cl.DropFactor(c.Context(), p[0], p[1]); err != nil {
					return err
				}
				fmt.Fprintln(c.OutOrStdout(), "You have no second factor any more.")
				return nil
			}
			p, err := askPasswords(c, stdin, "Password")
			if err != nil {
				return err
			}
			x, err := cl.BeginFactor(c.Context(), p[0])
			if err != nil {
				return err
			}
			drawQR(c.ErrOrStderr(), x.URI)
			fmt.Fprintf(c.ErrOrStderr(), "Or type this into the app: %s\n", x.Secret)
			code, err := askPasswords(c, stdin, "A code that it shows")
			if err != nil {
				return err
			}
			codes, err := cl.ConfirmFactor(c.Context(), code[0])
			if err != nil {
				return err
			}
			return show(c, codes, func(w io.Writer) {
				fmt.Fprintln(w, "From now on a sign-in needs a code. Keep these; each works once in place of the app:")
				for _, x := range codes.Codes {
					fmt.Fprintln(w, "  "+x)
				}
			})
		},
	}
	c.Flags().BoolVar(&off, "off", false, "take it off")
	c.Flags().StringVar(&of, "of", "", "take it off this person, as an owner")
	c.Flags().BoolVar(&stdin, "password-stdin", false, "read from standard input")
	return c
}

// drawQR draws a QR code with half blocks, two rows of it in a line.
func drawQR(w io.Writer, text string) {
	code, err := qr.Encode(text, qr.M, qr.Auto)
	if err != nil {
		return // the secret can be typed
	}
	dark := func(b barcode.Barcode, x, y int) bool {
		if x < 0 || y < 0 || x >= b.Bounds().Dx() || y >= b.Bounds().Dy() {
			return false
		}
		r, _, _, _ := b.At(x, y).RGBA()
		return r == 0
	}
	n := code.Bounds().Dx()
	var out strings.Builder
	for y := -2; y < n+2; y += 2 {
		for x := -2; x < n+2; x++ {
			switch up, down := dark(code, x, y), dark(code, x, y+1); {
			case up && down:
				out.WriteRune(' ')
			case up:
				out.WriteRune('▄')
			case down:
				out.WriteRune('▀')
			default:
				out.WriteRune('█')
			}
		}
		out.WriteByte('\n')
	}
	fmt.Fprint(w, out.String())
}
