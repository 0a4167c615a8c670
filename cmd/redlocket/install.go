package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"redlocket/core/version"
	"redlocket/install"
)

func installCommand() *cobra.Command {
	var o deviceOptions
	var noBrowser bool
	cmd := &cobra.Command{
		Use: "install", Short: "Starts Red Locket with your session from now on, with an entry in the menu",
		Long: `Has Red Locket start with your session, puts it in the menu of programs, and opens its page.
Nothing outside your own folders is changed, and redlocket uninstall takes all of it back.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			p, from, err := o.plan(cmd)
			if err != nil {
				return err
			}
			if err := p.Do(from, runStep); err != nil {
				return err
			}
			out := cmd.OutOrStdout()
			fmt.Fprintln(out, "Red Locket starts with your session from now on. To take that back: redlocket uninstall")
			return o.whenUp(cmd.Context(), func(at running) {
				fmt.Fprintf(out, "It is at %s\n", at.URL)
				if !noBrowser {
					openBrowser(at.URL)
				}
			})
		},
	}
	o.flags(cmd)
	cmd.Flags().StringVar(&o.cloud, "cloud", "", "cloud address offered to new vaults")
	cmd.Flags().BoolVar(&noBrowser, "no-browser", false, "don't open the browser")
	return cmd
}

func uninstallCommand() *cobra.Command {
	var o deviceOptions
	cmd := &cobra.Command{
		Use: "uninstall", Short: "Takes back what install did; your vaults stay", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			p, _, err := o.plan(cmd)
			if err != nil {
				return err
			}
			if err := p.Undo(runStep); err != nil {
				return err
			}
			if at, still := runningAt(cmd.Context(), o.dir); still {
				if err := at.end(o.dir); err != nil {
					return fmt.Errorf("it doesn’t start with your session any more, but still runs: %w", err)
				}
			}
			fmt.Fprintf(cmd.OutOrStdout(), "Red Locket no longer starts with your session, and doesn't run now.\n"+
				"Your vaults are still in %s\n", o.dir)
			return nil
		},
	}
	o.flags(cmd)
	return cmd
}

func statusCommand() *cobra.Command {
	var o deviceOptions
	cmd := &cobra.Command{
		Use: "status", Short: "Says whether Red Locket runs, and starts with your session", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			p, _, err := o.plan(cmd)
			if err != nil {
				return err
			}
			out := cmd.OutOrStdout()
			fmt.Fprintf(out, "Version: %s\n", version.String())
			fmt.Fprintf(out, "Starts with your session: %s\n", starts(p))
			if at, ok := runningAt(cmd.Context(), o.dir); ok {
				fmt.Fprintf(out, "Runs: yes, at %s\n", at.URL)
			} else {
				fmt.Fprintln(out, "Runs: no")
			}
			fmt.Fprintf(out, "Data folder: %s\n", o.dir)
			return nil
		},
	}
	o.flags(cmd)
	return cmd
}

// starts says whether the program starts with the session.
func starts(p install.Plan) string {
	missing := p.Missing()
	switch {
	case len(p.Check) > 0 && runStep(p.Check) == nil:
		return "yes"
	case len(missing) == len(p.Files):
		return "no; redlocket install sets it up"
	case len(missing) > 0:
		return "in part; redlocket install mends it. Missing or changed: " + strings.Join(missing, ", ")
	default:
		return "yes"
	}
}

// plan is what installing this program does; from is where it is now.
func (o *deviceOptions) plan(cmd *cobra.Command) (p install.Plan, from string, err error) {
	var args []string
	if o.dir != "" {
		if o.dir, err = filepath.Abs(o.dir); err != nil {
			return p, "", err
		}
		args = append(args, "--data", o.dir)
	}
	if o.port != defaultPort {
		args = append(args, "--port", strconv.Itoa(o.port))
	}
	if o.cloud != "" {
		args = append(args, "--cloud", o.cloud)
	}
	h, err := thisHost()
	if err != nil {
		return p, "", err
	}
	if from, err = os.Executable(); err != nil {
		return p, "", err
	}
	if err := o.ownFolder(); err != nil {
		return p, "", err
	}
	p, err = install.New(h, from, args)
	return p, from, err
}

// startTime is how long a program may take until it answers.
const startTime = 10 * time.Second

// whenUp waits until the device app answers.
func (o *deviceOptions) whenUp(ctx context.Context, then func(running)) error {
	for end := time.Now().Add(startTime); time.Now().Before(end); {
		if at, ok := runningAt(ctx, o.dir); ok {
			then(at)
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
	return errors.New("it is set up, but doesn’t answer yet: redlocket doctor may tell why")
}

// runStep runs a command of the system. What it says counts only if it fails.
func runStep(command []string) error {
	out, err := exec.Command(command[0], command[1:]...).CombinedOutput()
	if err != nil && len(out) > 0 {
		return fmt.Errorf("%w: %s", err, strings.TrimSpace(string(out)))
	}
	return err
}
