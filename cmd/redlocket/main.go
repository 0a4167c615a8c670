// Command redlocket is the whole of Red Locket: the device app, the cloud, the
// practice town, and a demo of all three.
package main

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"redlocket/cloud"
	"redlocket/core/version"
	"redlocket/practice"
	"redlocket/wording"
)

// softMemory is what the collector aims to stay below, in bytes: an open vault of
// 10,000 logins holds about 30 MB, and unlocking one takes 64 MB for a moment.
const softMemory = 160 << 20

func main() {
	debug.SetMemoryLimit(softMemory)
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := root().ExecuteContext(ctx); err != nil {
		fmt.Fprintln(os.Stderr, "redlocket:", wording.Error(err))
		os.Exit(exitCode(err))
	}
}

func root() *cobra.Command {
	var o deviceOptions
	var noBrowser, hide bool
	cmd := &cobra.Command{
		Use:     "redlocket",
		Version: version.String(),
		Short:   "Keeps website and app logins in a vault that only you can open",
		Long: `Red Locket keeps website and app logins in an encrypted vault, on each of your
computers and in your browsers.

Without a subcommand it runs the device app on your own data folder and opens
it in the browser. To try everything with made-up data: redlocket demo`,
		Args: cobra.NoArgs, SilenceUsage: true, SilenceErrors: true,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := o.ownFolder(); err != nil {
				return err
			}
			if hide {
				hideWindow()
			}
			return runDevice(cmd.Context(), o, !noBrowser)
		},
	}
	o.flags(cmd)
	cmd.Flags().StringVar(&o.cloud, "cloud", "", "cloud address offered to new vaults")
	cmd.Flags().BoolVar(&hide, "hide-window", false, "hide the console window that Windows opens")
	_ = cmd.Flags().MarkHidden("hide-window")
	cmd.Flags().BoolVar(&noBrowser, "no-browser", false, "don't open the browser")
	cmd.AddCommand(
		cloudCommand(),
		practiceCommand(),
		demoCommand(),
		importCommand(),
		exportCommand(),
		backupCommand(),
		restoreCommand(),
		suspectsCommand(), weakSpotsCommand(),
		doctorCommand(),
		installCommand(), uninstallCommand(), statusCommand(),
	)
	return cmd
}

func cloudCommand() *cobra.Command {
	var o cloudOptions
	cmd := &cobra.Command{
		Use: "cloud", Short: "Runs the sync service, which can read nothing", Args: cobra.NoArgs,
		Long: `Runs the sync service. It keeps sealed records for its accounts in one SQLite file.

Plain HTTP is served on this computer only; for others give it a certificate,
or put a proxy that has one in front of it.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if o.file == "" {
				o.file = "redlocket-cloud.db"
			}
			return runCloud(cmd.Context(), o)
		},
	}
	cmd.Flags().StringVar(&o.file, "data", "", "database file (default redlocket-cloud.db)")
	cmd.Flags().StringVar(&o.listen, "listen", "127.0.0.1:7300", "address and port")
	cmd.Flags().StringArrayVar(&o.addresses, "address", nil,
		"the cloud's own address as devices write it, like cloud.example; what is signed for another is refused")
	cmd.Flags().StringVar(&o.accounts, "accounts", "open",
		"who makes accounts: open (anybody), invitation (whoever has one, see invite) or closed (nobody)")
	cmd.Flags().StringVar(&o.mail.Address, "mail-server", "",
		"host and port of a mail server; with one, a new account's e-mail address is proved by a code")
	cmd.Flags().StringVar(&o.mailFrom, "mail-from", "", "the address that the cloud's mails come from")
	cmd.Flags().StringVar(&o.mail.User, "mail-user", "", "who the cloud is to the mail server, if it asks")
	cmd.Flags().StringVar(&o.mailPassword, "mail-password-file", "", "file with the password for --mail-user")
	cmd.Flags().BoolVar(&o.behindProxy, "behind-proxy", false,
		"serve plain HTTP on any address, to a proxy that has a certificate")
	cmd.Flags().StringArrayVar(&o.proxies, "trusted-proxy", nil,
		"address or network of a proxy that is believed when it says whom it passes on, like 10.0.0.0/8")
	cmd.Flags().StringVar(&o.metrics, "metrics", "", "address and port to serve metrics at, like 127.0.0.1:9300")
	cmd.Flags().Int64Var(&o.quota.Records, "max-records", cloud.DefaultQuota.Records, "records of one account")
	cmd.Flags().Int64Var(&o.quota.Bytes, "max-bytes", cloud.DefaultQuota.Bytes, "bytes of one account's records")
	cmd.Flags().Int64Var(&o.quota.Files, "max-file-bytes", cloud.DefaultQuota.Files, "bytes of one account's files")
	cmd.AddCommand(cloudBackupCommand(), cloudInviteCommand())
	cmd.Flags().StringVar(&o.cert, "cert", "", "TLS certificate file (PEM)")
	cmd.Flags().StringVar(&o.key, "key", "", "TLS key file (PEM)")
	return cmd
}

func cloudBackupCommand() *cobra.Command {
	var file string
	cmd := &cobra.Command{
		Use: "backup COPY", Short: "Copies the cloud's database, while it runs", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := cloud.Backup(cmd.Context(), file, args[0]); err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "The copy is whole: %s\n", args[0])
			return nil
		},
	}
	cmd.Flags().StringVar(&file, "data", "redlocket-cloud.db", "database file")
	return cmd
}

func cloudInviteCommand() *cobra.Command {
	var file string
	days, number := 14, 1
	cmd := &cobra.Command{
		Use: "invite", Short: "Makes invitations to the cloud, while it runs", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			const most = 1000
			if days < 1 || number < 1 || number > most {
				return fmt.Errorf("--days is 1 or more, --number 1 to %d", most)
			}
			for range number {
				code, err := cloud.Invite(cmd.Context(), file, time.Now().AddDate(0, 0, days))
				if err != nil {
					return err
				}
				fmt.Fprintln(cmd.OutOrStdout(), code)
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&file, "data", "redlocket-cloud.db", "database file")
	cmd.Flags().IntVar(&days, "days", days, "for how many days an invitation is good; it serves once")
	cmd.Flags().IntVar(&number, "number", number, "how many")
	return cmd
}

func practiceCommand() *cobra.Command {
	var port int
	cmd := &cobra.Command{
		Use: "practice", Short: "Runs the practice town: sites to sign in to", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			town, err := practice.New(nil)
			if err != nil {
				return err
			}
			s, err := serve("the practice town", local(port), town, nil)
			if err != nil {
				return err
			}
			fmt.Printf("The practice town is at http://practice.localhost:%d\n", port)
			return waitFor(cmd.Context(), s)
		},
	}
	cmd.Flags().IntVar(&port, "port", 7310, "port, on this computer only")
	return cmd
}

// quiet logs trouble only, to standard error, and never a secret: those print
// as dots.
func quiet() *slog.Logger {
	return slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn}))
}
