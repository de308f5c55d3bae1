package main

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/signal"
	"runtime/debug"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"beacon/api"
	"beacon/cli"
	"beacon/core/special"
	"beacon/profile/jq"
	"beacon/service"
	"beacon/service/accounts"
)

// drivers are all drivers that this program has, by kind.
func drivers() service.Drivers {
	return service.Drivers{
		Kinds:     map[string]accounts.Kind{"update": service.UpdateKind()},
		Evaluator: evaluator(),
	}
}

// evaluator is this program as a worker for the expressions of profiles.
func evaluator() []string {
	self, err := os.Executable()
	if err != nil {
		return nil
	}
	return []string{self, cli.EvaluateWord}
}

func evaluateCommand() *cobra.Command {
	return &cobra.Command{Use: cli.EvaluateWord, Hidden: true, Args: cobra.NoArgs, Short: "Evaluate jq expressions of profiles within bounds",
		Run: func(*cobra.Command, []string) { os.Exit(jq.Work(jq.Memory)) }}
}

func serveCommand() *cobra.Command {
	var settings, watch string
	var verbose, hold, example bool
	c := &cobra.Command{Use: "serve", Short: "Run the service", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		if example {
			_, err := fmt.Fprint(c.OutOrStdout(), service.ExampleSettings)
			return err
		}
		ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
		defer stop()
		return serve(ctx, settings, watch, verbose, hold)
	}}
	c.Flags().StringVar(&settings, "settings", "beacon.yaml", "settings file")
	c.Flags().StringVar(&watch, "watch", "", "folder of definition files to follow; else as the settings say")
	c.Flags().BoolVar(&hold, "hold", false, "begin held: look, and change nothing at providers and registrars until a user releases it (beacon hold)")
	c.Flags().BoolVar(&verbose, "verbose", false, "log every request")
	c.Flags().BoolVar(&example, "example-settings", false, "print a minimal settings file, with every default as a comment")
	return c
}

// softLimit is how much memory is used before the collector works harder, in octets. GOMEMLIMIT sets another.
const softLimit = 1 << 30

// serve runs an instance until ctx ends.
func serve(ctx context.Context, path, watch string, verbose, hold bool) error {
	settings, err := service.ReadSettings(path)
	if err != nil {
		return err
	}
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(softLimit)
	}
	settings.Hold = hold
	if watch != "" {
		settings.Watch.Folder = watch
	}
	level := slog.LevelInfo
	if verbose {
		level = slog.LevelDebug
	}
	log := slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: level}))
	if info, err := os.Stat(path); err == nil && info.Mode().Perm()&0o007 != 0 && settings.Database.Password != "" {
		log.Warn("the settings hold a password, and every user of this machine may read them", "file", path, "do", "chmod o-rwx "+path)
	}
	listener, err := net.Listen("tcp", settings.Listen)
	if errors.Is(err, syscall.EADDRINUSE) {
		return fmt.Errorf("%s is in use by another program; stop that, or set another address with listen in %s", settings.Listen, path)
	}
	if err != nil {
		return fmt.Errorf("the service cannot listen at %s: %w", settings.Listen, err)
	}
	defer listener.Close()
	address := "http://" + listener.Addr().String()
	var secured *tls.Config
	if settings.TLS.Set() {
		if secured, err = api.TLS(settings.TLS, log); err != nil {
			return fmt.Errorf("the setting tls: %w", err)
		}
		name := listener.Addr().String()
		if len(settings.HostNames) > 0 {
			_, port, _ := net.SplitHostPort(name)
			name = net.JoinHostPort(settings.HostNames[0], port)
		}
		address = "https://" + name
	}
	svc, err := service.Open(ctx, settings, drivers(), log)
	if err != nil {
		return err
	}
	defer svc.Close()
	code, err := svc.Users.FirstCode(ctx)
	if err != nil {
		return err
	}
	if code != "" {
		link := address + "/first-user#" + code
		fmt.Printf("First start: there is no user yet. Open this link and choose a password. It works once, for 24 hours:\n  %s\nOr: beacon sign-in --first '%s'\n", link, link)
	}
	server := api.NewServer(svc, log)
	var group sync.WaitGroup
	group.Go(func() { svc.Run(ctx) })
	group.Go(func() {
		<-ctx.Done()
		closing, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		if server.Shutdown(closing) != nil {
			_ = server.Close()
		}
	})
	log.Info("Agile Beacon answers", "address", address)
	bounded := api.Bounded(listener, settings.Proxies, special.Open(settings.Listen) && secured == nil)
	if server.TLSConfig = secured; secured != nil {
		err = server.ServeTLS(bounded, "", "")
	} else {
		if len(settings.Proxies) == 0 {
			log.Info("without TLS only this machine reaches the service; other machines need tls or trusted_proxies in the settings")
		}
		err = server.Serve(bounded)
	}
	if errors.Is(err, http.ErrServerClosed) {
		err = nil
	}
	group.Wait()
	return err
}
