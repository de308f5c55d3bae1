package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
)

// reportOptions say what is reported, and how.
type reportOptions struct {
	host, tokenFile, v4, v6 string
	every                   time.Duration
	once                    bool
}

func (a *app) hostReportCommand() *cobra.Command {
	var opt reportOptions
	c := &cobra.Command{
		Use: "report", Short: "Report this machine's address for a dynamic host, again and again", Args: cobra.NoArgs,
		Long: "Report an address again and again from the machine that has it. Without --v4 and --v6 the service uses\n" +
			"the address that the report comes from. An address that has not changed writes nothing.\n\n" +
			"Exit codes with --once: 0 accepted, unchanged or held, 1 refused or\n" +
			"unreachable, 3 the service was not reached, 64 misuse.",
		Example: "  beacon host report --host pier-cam.saltmarsh-ferries.example --token-file pier-cam.token",
		RunE: func(*cobra.Command, []string) error {
			text, err := os.ReadFile(opt.tokenFile)
			switch {
			case opt.tokenFile == "":
				return misuse("name the file with the host's token: --token-file")
			case err != nil:
				return misuse("%s", err)
			case opt.every < 10*time.Second:
				return misuse("--every is at least 10s")
			}
			ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			return a.reportUntil(ctx, opt, strings.TrimSpace(string(text)))
		},
	}
	c.Flags().StringVar(&opt.host, "host", "", "the dynamic host; else the token names it")
	c.Flags().StringVar(&opt.tokenFile, "token-file", "", "file with the host's token")
	c.Flags().StringVar(&opt.v4, "v4", "", "IPv4 address to report")
	c.Flags().StringVar(&opt.v6, "v6", "", "IPv6 address to report")
	c.Flags().DurationVar(&opt.every, "every", 5*time.Minute, "how often to report")
	c.Flags().BoolVar(&opt.once, "once", false, "report once, and end")
	return c
}

// reportTries is how often one report is tried where the service is not reached.
const reportTries = 3

func (a *app) reportUntil(ctx context.Context, opt reportOptions, token string) error {
	shown := ""
	for {
		line, refused, err := a.reportOnce(ctx, opt, token)
		for try := 1; err != nil && try < reportTries && ctx.Err() == nil; try++ {
			sleep(ctx, time.Duration(try)*time.Second)
			line, refused, err = a.reportOnce(ctx, opt, token)
		}
		if err != nil {
			line = err.Error()
		}
		if opt.once && err != nil {
			return exit{ExitUnknown, line}
		}
		if ctx.Err() != nil {
			return nil
		}
		if opt.once || line != shown { // unchanged again and again is not worth a line
			a.printf("%s  %s\n", time.Now().Format("2006-01-02 15:04:05"), line)
			shown = line
		}
		if opt.once {
			if refused {
				return exit{ExitFailed, ""}
			}
			return nil
		}
		sleep(ctx, opt.every)
		if ctx.Err() != nil {
			return nil
		}
	}
}

func sleep(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// reportOnce makes one report and gives the line that came back.
func (a *app) reportOnce(ctx context.Context, opt reportOptions, token string) (line string, refused bool, err error) {
	if err := a.secured(); err != nil {
		return "", false, err
	}
	query := url.Values{}
	for name, value := range map[string]string{"host": opt.host, "v4": opt.v4, "v6": opt.v6} {
		if value != "" {
			query.Set(name, value)
		}
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, strings.TrimSuffix(a.address, "/")+"/api/v1/report?"+query.Encode(), nil)
	if err != nil {
		return "", false, misuse("--address %q is no address; write it like http://127.0.0.1:8053", a.address)
	}
	req.Header.Set("Authorization", "Bearer "+token)
	res, err := door.HTTPClient(20 * time.Second).Do(req)
	if err != nil {
		return "", false, fmt.Errorf("the service at %s does not answer", a.address)
	}
	defer res.Body.Close()
	text, err := io.ReadAll(io.LimitReader(res.Body, 1000))
	line = strings.TrimSpace(string(text))
	switch {
	case err != nil:
		return "", false, fmt.Errorf("the service at %s broke off its answer: %w", a.address, err)
	case strings.HasPrefix(line, "refused"), strings.HasPrefix(line, "unreachable"):
		return line, true, nil
	case res.StatusCode != http.StatusOK:
		return "", false, fmt.Errorf("the service at %s answered %s", a.address, res.Status)
	}
	return line, false, nil
}
