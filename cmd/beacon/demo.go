package main

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"runtime"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"beacon/demo"
)

func demoCommand() *cobra.Command {
	c := &cobra.Command{Use: "demo", Short: "Run the Saltmarsh Ferries demo on this machine's loopback"}
	c.AddCommand(demoStart(), demoTour())
	return c
}

// stageFlags are the same for both ways to run the demo.
func stageFlags(c *cobra.Command, opt *demo.Options, defaults demo.Options) {
	c.Flags().StringVar(&opt.Dir, "dir", defaults.Dir, "folder that keeps everything")
	c.Flags().StringVar(&opt.Listen, "listen", defaults.Listen, "address of the service")
	c.Flags().IntVar(&opt.Net, "net", defaults.Net, "second octet of the practice world's addresses")
	c.Flags().IntVar(&opt.DNSPort, "dns-port", 5300, "port of its nameservers and resolvers")
	c.Flags().IntVar(&opt.HTTPPort, "http-port", 8054, "port of its HTTP interfaces")
	c.Flags().Float64Var(&opt.Rate, "rate", 60, "speed of its clock")
	c.Flags().BoolVar(&opt.Signed, "signed", false, "sign its root and registries, and judge signatures")
}

// staged prepares for children whose lives are tied to this thread, and for an end by signal.
func staged(opt *demo.Options) (context.Context, func(), error) {
	runtime.LockOSThread()
	program, err := os.Executable()
	if err != nil {
		return nil, nil, err
	}
	opt.Program = program
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	return ctx, stop, nil
}

func demoStart() *cobra.Command {
	var opt demo.Options
	c := &cobra.Command{Use: "start", Short: "Start database, practice world and service with the demo data", Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error {
		begun := time.Now()
		ctx, stop, err := staged(&opt)
		if err != nil {
			return err
		}
		defer stop()
		opt.Progress = os.Stdout
		stage, err := demo.Start(ctx, opt)
		if err != nil {
			if ctx.Err() != nil {
				fmt.Println("\nStopped before all demo data were loaded. Start again: loading goes on where it ended.")
				return nil
			}
			return fmt.Errorf("%w\nStart again: loading goes on where it ended. If that does not help, begin afresh: rm -r %s", err, opt.Dir)
		}
		fmt.Printf("Agile Beacon is up after %.1f s.\n\n", time.Since(begun).Seconds())
		fmt.Printf("  console          %s   as admin, with the password %s\n", stage.Address(), stage.Password)
		fmt.Printf("  API              %s/api/v1, described by /api/v1/openapi.json\n", stage.Address())
		fmt.Printf("  command line     %s sign-in --address %s --as admin --password-file %s/password\n", os.Args[0], stage.Address(), opt.Dir)
		fmt.Printf("  the domain       %s, registered at Gannet, answered by Plover, to be moved to Heron\n", demo.Domain)
		fmt.Printf("  its files        %s/saltmarsh-ferries.zone and .beacon.yaml\n", opt.Dir)
		fmt.Printf("  practice world   %s (simulated time, %g times real time)\n", stage.Site("control"), opt.Rate)
		fmt.Printf("  logs             %s/service.log, practice.log, db/log\n\n", opt.Dir)
		fmt.Printf("Ctrl-C stops all of it; what was done is kept for the next start.\n")
		err = stage.Wait(ctx)
		fmt.Printf("\nStopping ...\n")
		stage.Stop()
		return err
	}}
	c.Flags().BoolVar(&opt.Fleet, "fleet", true, "load some forty domains in all states beside the one to be moved")
	stageFlags(c, &opt, demo.Options{Dir: "var/demo", Listen: "127.0.0.1:8053", Net: 53})
	return c
}

func demoTour() *cobra.Command {
	var opt demo.Options
	c := &cobra.Command{Use: "tour", Short: "Go through the whole scenario on a fresh stage, unattended", Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error {
		ctx, stop, err := staged(&opt)
		if err != nil {
			return err
		}
		defer stop()
		return demo.Tour(ctx, opt, os.Stdout)
	}}
	stageFlags(c, &opt, demo.Options{Dir: "var/tour", Listen: "127.0.0.1:8063", Net: 54})
	return c
}
