package cli

import (
	"fmt"
	"io"
	"log/slog"
	"os"

	"github.com/spf13/cobra"

	"ullage/api"
	"ullage/server"
)

func serveCommand() *cobra.Command {
	c := &cobra.Command{
		Use:     "serve",
		Short:   "Run the service until interrupted",
		GroupID: groupService,
		Args:    cobra.NoArgs,
		Long: `Runs the service on one data folder. Every option is also a key of the config
file and an environment variable; "ullage config show" tells what is in force.

On an empty data folder the first sign-in is printed once.`,
		Example: "  ullage serve --data /srv/ullage\n  ULLAGE_LOG_FORMAT=json ullage serve --config ullage.yaml",
		RunE: func(c *cobra.Command, _ []string) error {
			cfg, err := server.Load(c.Flags(), os.LookupEnv)
			if err != nil {
				return err
			}
			log, err := cfg.Logger(c.ErrOrStderr())
			if err != nil {
				return err
			}
			slog.SetDefault(log)
			return server.Run(c.Context(), cfg, log, func(s server.Started) { announce(c.OutOrStdout(), s) })
		},
	}
	server.AddFlags(c.Flags())
	return c
}

func announce(w io.Writer, s server.Started) {
	for _, l := range [][2]string{{"Console", s.Console}, {"Console over TLS", s.ConsoleTLS},
		{"SHA-256 of its certificate", s.Fingerprint}, {"MQTT", s.MQTT}, {"Device HTTP", s.DeviceHTTP},
		{"MQTT over TLS", s.MQTTTLS}, {"Device HTTP over TLS", s.DeviceHTTPTLS}, {"The time alone", s.TimeOnly}, {"SHA-256 of the authority", s.Authority}} {
		if l[1] != "" {
			fmt.Fprintf(w, "%s: %s\n", l[0], l[1])
		}
	}
	for _, l := range s.More {
		fmt.Fprintln(w, l)
	}
	if s.Passphrase != "" {
		fmt.Fprintf(w, "Passphrase of the authority's root key, for when its certificates are renewed: %s (shown this once)\n", s.Passphrase)
	}
	if s.FirstPassword != "" {
		fmt.Fprintf(w, "First sign-in: %s with the password %s (shown this once)\n", s.FirstPerson, s.FirstPassword)
	}
}

func configCommand() *cobra.Command {
	showing := &cobra.Command{
		Use:   "show",
		Short: "Show what is in force and where each value came from",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			cfg, err := server.Load(c.Flags(), os.LookupEnv)
			if err != nil {
				return err
			}
			return list(c, cfg.Show(), "",
				column[server.Shown]{"key", func(s server.Shown) string { return s.Key }},
				column[server.Shown]{"value", func(s server.Shown) string { return fmt.Sprint(s.Value) }},
				column[server.Shown]{"from", func(s server.Shown) string { return s.From }},
				column[server.Shown]{"what it does", func(s server.Shown) string { return s.Help }})
		},
	}
	server.AddFlags(showing.Flags())
	return noun(groupService, "config", "See the configuration", showing)
}

func openapiCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "openapi",
		Short:   "Print the API's OpenAPI 3.1 document",
		GroupID: groupService,
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			b, err := api.Document(server.Version)
			if err != nil {
				return err
			}
			_, err = c.OutOrStdout().Write(append(b, '\n'))
			return err
		},
	}
}

// hashCommand is what a service starts to have passwords hashed.
func hashCommand() *cobra.Command {
	return &cobra.Command{Use: server.HashCommand, Hidden: true, Args: cobra.NoArgs,
		Short: "Hash passwords for the service that has started this",
		RunE: func(c *cobra.Command, _ []string) error {
			return server.Hash(c.InOrStdin(), c.OutOrStdout())
		}}
}
