package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"redlocket/app/folder"
	"redlocket/cloud"
	"redlocket/core/leaks"
	"redlocket/core/wire"
	"redlocket/demo"
	"redlocket/mailing"
	"redlocket/practice"
)

func demoCommand() *cobra.Command {
	var dir string
	var port, size int
	cmd := &cobra.Command{
		Use: "demo", Short: "Runs everything at once, filled with made-up data", Args: cobra.NoArgs,
		Long: `Runs the cloud, Maren's two devices, Idris's device and the practice town, filled
with the made-up logins of Saltmarsh Quay. The data is in a temporary folder that
is deleted at the end, unless --data names one.`,
		RunE: func(cmd *cobra.Command, _ []string) error { return runDemo(cmd.Context(), dir, port, size) },
	}
	cmd.Flags().StringVar(&dir, "data", "", "folder that keeps the demo's data (default: a temporary one)")
	cmd.Flags().IntVar(&port, "port", 7300, "first of eleven ports, on this computer only")
	cmd.Flags().IntVar(&size, "size", 0, "logins in Maren's vault, to try a large one (at most 20000)")
	return cmd
}

// The demo's ports, counted from the first.
const (
	portCloud = iota
	portDesk
	portLaptop
	portIdris
	portPost = 9
	portTown = 10
)

func runDemo(ctx context.Context, dir string, port, size int) (err error) {
	if size < 0 || size > wire.MaxRecords {
		return fmt.Errorf("--size must be from 0 to %d", wire.MaxRecords)
	}
	// The ports first: if one is taken, nothing was made yet.
	lines := map[int]net.Listener{}
	for _, p := range []int{portCloud, portDesk, portLaptop, portIdris, portPost, portTown} {
		take := listenOwn
		if p == portCloud || p == portPost || p == portTown { // others' computers, in truth
			take = func(name string, port int) (net.Listener, error) { return listen(name, local(port)) }
		}
		l, err := take("the demo", port+p)
		if err != nil {
			return err
		}
		defer func() { _ = l.Close() }()
		lines[p] = l
	}
	if dir == "" {
		if dir, err = os.MkdirTemp("", "redlocket-demo-"); err != nil {
			return fmt.Errorf("failed to make a folder for the demo: %w", err)
		}
		defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	} else if err := os.MkdirAll(dir, 0o700); err != nil {
		return fmt.Errorf("failed to make the demo's folder: %w", err)
	}
	fmt.Println("Getting Saltmarsh Quay ready …")

	// Everything in the demo comes from one network address.
	lim := cloud.Limits{PerAccount: 200, PerAddress: 2000, Window: 5 * time.Minute}
	c, err := cloud.New(ctx, filepath.Join(dir, "cloud.db"), lim, quiet())
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, c.Close()) }()
	// The town's mail server takes what the cloud mails.
	c.Post = &cloudPost{mailing.Server{Address: fmt.Sprintf("localhost:%d", port+portPost)}, "cloud@redlocket.example"}
	servers := []*server{serveOn("the cloud", lines[portCloud], c, c.EndStreams)}
	defer func() { closeAll(servers) }()
	cloudURL := fmt.Sprintf("http://127.0.0.1:%d", port+portCloud)

	town, err := practice.New(demo.Residents())
	if err != nil {
		return err
	}
	servers = append(servers, serveOn("the practice town", lines[portTown], town, nil))
	if err := town.LetLeak(strings.NewReader(demo.LeakList()), demo.Leaks(time.Now())); err != nil {
		return err
	}
	post := town.Post()
	go func() { _ = post.Serve(lines[portPost]) }() // until it is closed
	defer func() { _ = post.Close() }()

	list := filepath.Join(dir, "leaked-passwords.txt")
	if err := os.WriteFile(list, []byte(demo.LeakList()), 0o600); err != nil {
		return err
	}
	var devices [3]*deviceApp
	for i, name := range []string{"desk", "laptop", "idris"} {
		p := portDesk + i
		d, err := newDevice(
			deviceOptions{
				dir: filepath.Join(dir, name), port: port + p, cloud: cloudURL, host: name + ".localhost",
				leakService: fmt.Sprintf("http://leaks.localhost:%d", port+portTown),
				mailServer:  fmt.Sprintf("localhost:%d", port+portPost),
			},
		)
		if err != nil {
			return err
		}
		defer func() { err = errors.Join(err, d.device.Close()) }()
		devices[i] = d
		servers = append(servers, d.serve(ctx, name, lines[p]))
	}
	// The desk has taken it in; on the laptop it can be tried.
	desk := folder.LeakFiles{Path: filepath.Join(dir, "desk", "leaked-passwords")}
	if err := desk.Keep(func(w io.Writer) error {
		_, err := leaks.Build(ctx, strings.NewReader(demo.LeakList()), w, nil)
		return err
	}); err != nil {
		return err
	}
	rosa, err := newDevice(deviceOptions{dir: filepath.Join(dir, "rosa"), port: port + portDesk, cloud: cloudURL})
	if err != nil {
		return err
	}
	err = demo.Fill(
		ctx,
		demo.Devices{
			Desk: devices[0].device, Laptop: devices[1].device, Idris: devices[2].device, Rosa: rosa.device,
		},
		cloudURL,
		practiceURL(port+portTown),
		town.CodeFor,
		size,
		func(s string) { fmt.Println("  ·", s) },
	)
	if err != nil {
		return err
	}
	rosa.pages.Close()
	if err := rosa.device.Close(); err != nil {
		return err
	}
	fmt.Printf(`
Maren's desk computer   %s
Maren's laptop          %s
    master password     %s
    Wren's              %s
Idris's computer        %s
    master password     %s
The practice town       http://practice.localhost:%d
Its post office         http://post.localhost:%d
The cloud               %s
A made-up leak list     %s
The data is in          %s

Ctrl-C ends it.
`, devices[0].url, devices[1].url, demo.MarenPassword, demo.WrenPassword, devices[2].url, demo.IdrisPassword,
		port+portTown, port+portTown, cloudURL, list, dir)
	return waitFor(ctx, servers...)
}

func closeAll(list []*server) {
	for _, s := range list {
		s.close()
	}
}
