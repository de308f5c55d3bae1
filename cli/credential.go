package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"beacon/wire"
)

// credentialFlags are where a credential is read from: never from the command line, where others on the machine could read it.
type credentialFlags struct {
	file  string
	parts []string // NAME=FILE
}

func (f *credentialFlags) add(c *cobra.Command) {
	c.Flags().StringVar(&f.file, "secret-file", "", "file with the credential; else BEACON_SECRET, else you are asked")
	c.Flags().StringArrayVar(&f.parts, "part-file", nil, "NAME=FILE, a part of the credential, where it has several; else BEACON_SECRET_NAME, else you are asked")
}

// read returns a credential: one text, or its parts by name where it has parts.
func (f credentialFlags) read(a *app, parts []wire.CredentialPart, prompt string) (secret string, list map[string]string, err error) {
	if len(parts) == 0 {
		secret, err = a.secret("BEACON_SECRET", f.file, prompt+": ")
		return secret, nil, err
	}
	files := map[string]string{}
	for _, text := range f.parts {
		name, file, ok := strings.Cut(text, "=")
		if !ok {
			return "", nil, misuse("--part-file is written NAME=FILE")
		}
		files[name] = file
	}
	list = map[string]string{}
	for _, p := range parts {
		what := prompt + ", " + p.Name
		if p.About != "" {
			what += " (" + p.About + ")"
		}
		if list[p.Name], err = a.secret("BEACON_SECRET_"+strings.ToUpper(p.Name), files[p.Name], what+": "); err != nil {
			return "", nil, err
		}
		delete(files, p.Name)
	}
	for name := range files {
		return "", nil, misuse("the credential has no part %q", name)
	}
	return "", list, nil
}

// hostsOf reads further addresses that are written NAME=URL.
func hostsOf(list []string) (map[string]string, error) {
	hosts := map[string]string{}
	for _, text := range list {
		name, address, ok := strings.Cut(text, "=")
		if !ok {
			return nil, misuse("--host is written NAME=URL")
		}
		hosts[name] = address
	}
	return hosts, nil
}

// partsOf returns the parts of the credentials of a kind; none where it has one text, or is not known: then the service says so.
func (a *app) partsOf(role, kind string) ([]wire.CredentialPart, error) {
	list, err := all(a, wire.ListKinds.With("role", role))
	for _, k := range list {
		if k.Name == kind {
			return k.Parts, err
		}
	}
	return nil, err
}

// partsOfAccount returns the parts of the credential of an account.
func (a *app) partsOfAccount(role, name string) ([]wire.CredentialPart, error) {
	list, err := all(a, wire.ListAccounts.With("role", role))
	if err != nil {
		return nil, err
	}
	for _, account := range list {
		if account.Name == name {
			return a.partsOf(role, account.Kind)
		}
	}
	return nil, nil
}
