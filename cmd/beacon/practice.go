package main

import (
	"context"
	"log/slog"
	"os"
	"os/signal"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"beacon/practice"
)

func practiceCommand() *cobra.Command {
	var opt practice.Options
	c := &cobra.Command{
		Use: "practice", Short: "Run the practice world: a small internet on loopback addresses", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			opt.Log = slog.New(slog.NewTextHandler(os.Stderr, nil))
			world, err := practice.Start(opt)
			if err != nil {
				return err
			}
			defer world.Close()
			opt.Log.Info("the practice world is up", "control", world.URL("control"), "heron", world.URL("heron"),
				"plover", world.URL("plover"), "curlew", world.URL("curlew"), "whimbrel", world.URL("whimbrel"), "lapwing", world.URL("lapwing"),
				"gannet", world.URL("gannet"), "skua", world.URL("skua"), "rdap", world.URL("rdap"), "root", world.DNSAddress("0.1"))
			<-ctx.Done()
			return nil
		},
	}
	c.Flags().IntVar(&opt.Net, "net", 53, "second octet of its addresses, 127.NET.x.y")
	c.Flags().IntVar(&opt.DNSPort, "dns-port", 5300, "port of all its nameservers and resolvers")
	c.Flags().IntVar(&opt.HTTPPort, "http-port", 8054, "port of all its HTTP interfaces")
	c.Flags().Float64Var(&opt.Rate, "rate", 1, "simulated seconds in a real second, 1 to 60")
	c.Flags().DurationVar(&opt.Lag, "lag", 120*time.Millisecond, "how much reads at Plover are behind writes")
	c.Flags().BoolVar(&opt.Signed, "signed", false, "sign the root and the registries")
	c.Flags().StringVar(&opt.StateFile, "state", "", "file that keeps its state between runs")
	return c
}
