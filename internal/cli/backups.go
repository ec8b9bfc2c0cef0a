package cli

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/fault"
	"crelvo/internal/record/privatepg"
	"crelvo/internal/service/backups"
)

const aboutTargets = "TARGET is the whole path of a folder, or s3+https://HOST/BUCKET/PREFIX?region=REGION with the key in\n" +
	"AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY."

func backupCommand(s *session) *cobra.Command {
	var wait bool
	cmd := &cobra.Command{Use: "backup [TARGET]", Short: "Put all records and bytes somewhere else too",
		Args: arguments(cobra.MaximumNArgs(1)),
		Long: "Have the server put all records and bytes, as of one moment, somewhere else too, while it serves. Of the bytes\n" +
			"only those are copied that are not there from before. Without TARGET it goes where the server makes its own\n" +
			"backups (serve --backup-to). " + aboutTargets + "\n" +
			"The folder, and the key of a bucket, are those of the server's machine.",
		Example: "  crelvo backup /mnt/backup/crelvo --wait\n" +
			"  crelvo backup 's3+https://s3.mainland.example/backups/crelvo?region=south' --wait",
		RunE: func(cmd *cobra.Command, args []string) error {
			target := ""
			if len(args) > 0 {
				target = args[0]
			}
			c, err := s.client()
			if err != nil {
				return err
			}
			b, err := c.BeginBackup(cmd.Context(), target)
			if err == nil && wait {
				b, err = waitForBackup(cmd, c, b)
			}
			if err != nil {
				return err
			}
			if err := answer(s, cmd, func(context.Context, *client.Client) (api.Backup, error) { return b, nil },
				showBackup); err != nil {
				return err
			}
			if b.State == "failed" {
				return fault.New(fault.Internal, "backup-failed", "the backup failed: %s", b.Said)
			}
			return nil
		}}
	cmd.Flags().BoolVar(&wait, "wait", false, "wait until it has ended")
	cmd.AddCommand(backupList(s), backupVerify(s))
	return cmd
}

// waitForBackup follows a run to its end.
func waitForBackup(cmd *cobra.Command, c *client.Client, b api.Backup) (api.Backup, error) {
	for last := int64(-1); b.EndedAt == nil; {
		if b.Files != last {
			fmt.Fprintf(cmd.ErrOrStderr(), "%d files, %s\n", b.Files, api.Bytes(b.Bytes))
			last = b.Files
		}
		select {
		case <-cmd.Context().Done():
			return b, cmd.Context().Err()
		case <-time.After(500 * time.Millisecond):
		}
		all, err := c.Backups(cmd.Context())
		if err != nil {
			return b, err
		}
		for _, other := range all {
			if other.ID == b.ID {
				b = other
			}
		}
	}
	return b, nil
}

func showBackup(w io.Writer, b api.Backup) {
	pairs := []string{"target", b.Target}
	if b.Name != "" {
		pairs = append(pairs, "name", b.Name)
	}
	pairs = append(pairs, "begun", timeText(b.BegunAt)+" by "+b.By, "state", b.State)
	if b.EndedAt != nil {
		pairs = append(pairs, "ended", timeText(*b.EndedAt))
	}
	pairs = append(pairs, "holds", fmt.Sprintf("%d files, %s", b.Files, api.Bytes(b.Bytes)),
		"of it new", fmt.Sprintf("%d files, %s", b.NewFiles, api.Bytes(b.NewBytes)))
	if b.Said != "" {
		pairs = append(pairs, "but", b.Said)
	}
	fields(w, pairs...)
}

func backupList(s *session) *cobra.Command {
	return &cobra.Command{Use: "list [TARGET]", Short: "List the backups that the server made, or those at a target",
		Args: arguments(cobra.MaximumNArgs(1)),
		Long: "List the last backups that the server made and how they went, or, without asking a server, those that are at a\n" +
			"target. " + aboutTargets,
		Example: "  crelvo backup list",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				return listTarget(s, cmd, args[0])
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Backup, error) {
				return c.Backups(ctx)
			}, func(w io.Writer, all []api.Backup) {
				var rows [][]string
				for _, b := range all {
					state := b.State
					if b.Said != "" {
						state += ": " + b.Said
					}
					rows = append(rows, []string{timeText(b.BegunAt), b.Target, b.By, strconv.FormatInt(b.Files, 10),
						api.Bytes(b.Bytes), api.Bytes(b.NewBytes), state})
				}
				table(w, []string{"BEGUN", "TARGET", "BY", "FILES", "SIZE", "NEW", "STATE"}, []int{3, 4, 5}, rows)
			})
		}}
}

// atTarget opens a target on this machine.
func atTarget(address string, do func(t *backups.Target) error) error {
	local, err := os.MkdirTemp("", "crelvo-backup-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(local)
	if !strings.HasPrefix(address, "s3+") {
		if address, err = filepath.Abs(address); err != nil {
			return err
		}
		if _, err := os.Stat(address); err != nil {
			return fault.New(fault.NotFound, "no-such-target", "there is no folder %s", address)
		}
	}
	t, err := backups.OpenTarget(address, local)
	if err != nil {
		return err
	}
	return errors.Join(do(t), t.Close())
}

func listTarget(s *session, cmd *cobra.Command, address string) error {
	return atTarget(address, func(t *backups.Target) error {
		all, lost, err := t.Manifests(cmd.Context())
		if err != nil {
			return err
		}
		for _, name := range lost {
			fmt.Fprintf(cmd.ErrOrStderr(), "%s is not what was written, and cannot be restored.\n", name)
		}
		w := cmd.OutOrStdout()
		return s.show(w, all, func() {
			var rows [][]string
			for _, m := range all {
				rows = append(rows, []string{m.Name, timeText(m.At), strconv.FormatInt(m.Files, 10), api.Bytes(m.Bytes),
					api.Bytes(m.Records.Size), yesNo(m.Key != nil), m.Program})
			}
			table(w, []string{"NAME", "AS OF", "FILES", "SIZE", "RECORDS", "KEY", "MADE BY"}, []int{2, 3, 4}, rows)
		})
	})
}

func backupVerify(s *session) *cobra.Command {
	var name string
	var quick, repair bool
	cmd := &cobra.Command{Use: "verify TARGET", Short: "Tell whether backups are whole, without restoring them",
		Args: arguments(cobra.ExactArgs(1)),
		Long: "Read all backups at a target through, or one of them, and compare every byte with its digest; with --quick\n" +
			"only look whether all of it is there and has its size. With --repair what is damaged is dropped, so that the\n" +
			"next backup copies it again. No server is asked. " + aboutTargets,
		Example: "  crelvo backup verify /mnt/backup/crelvo\n" +
			"  crelvo backup verify /mnt/backup/crelvo --quick --backup backup-20261129t020000z",
		RunE: func(cmd *cobra.Command, args []string) error {
			return atTarget(args[0], func(t *backups.Target) error {
				all, lost, err := t.Manifests(cmd.Context())
				if err == nil && (name != "" || len(all) == 0) {
					var one backups.Manifest
					one, err = t.Manifest(cmd.Context(), name, time.Time{})
					all = []backups.Manifest{one}
				}
				if err != nil {
					return err
				}
				var wrong []backups.Wrong
				for _, name := range lost {
					wrong = append(wrong, backups.Wrong{Backup: name, What: "is not what was written:"})
					if repair {
						if err := t.DropDocument(cmd.Context(), name); err != nil {
							return err
						}
					}
				}
				files, read, err := t.Verify(cmd.Context(), all, quick, repair,
					func(w backups.Wrong) { wrong = append(wrong, w) })
				if err != nil {
					return err
				}
				w := cmd.OutOrStdout()
				if err := s.show(w, wrong, func() {
					fmt.Fprintf(w, "%d backups of %d files were looked at, and %s read.\n", len(all), files, api.Bytes(read))
					for _, x := range wrong {
						fmt.Fprintf(w, "%s %s %s\n", x.SHA256, x.What, x.Backup)
					}
				}); err != nil {
					return err
				}
				if len(wrong) > 0 && repair {
					return fault.New(fault.Conflict, "backup-damaged", "%d files were not what they should be", len(wrong)).
						WithHint("Make a backup now: it copies again what is missing.")
				}
				if len(wrong) > 0 {
					return fault.New(fault.Conflict, "backup-damaged", "%d files are not what they should be", len(wrong)).
						WithHint("With --repair they are dropped, and the next backup copies them again.")
				}
				return nil
			})
		}}
	cmd.Flags().StringVar(&name, "backup", "", "only the one of that name")
	cmd.Flags().BoolVar(&quick, "quick", false, "do not read the bytes")
	cmd.Flags().BoolVar(&repair, "repair", false, "drop what is damaged, so that the next backup copies it again")
	return cmd
}

func restoreCommand() *cobra.Command {
	var data, database, storeAt, name, asOf, passphraseFile, keyFile string
	cmd := &cobra.Command{Use: "restore TARGET", Short: "Bring a backup back, onto an empty machine",
		Args: arguments(cobra.ExactArgs(1)),
		Long: "Bring the last backup at a target back, or an earlier one: its records into an empty database, its bytes into\n" +
			"an empty store of whatever kind, and the key of the server, if it is in the backup. No service may run on the\n" +
			"data folder. What ended in the middle can be begun again. " + aboutTargets,
		Example: "  crelvo restore /mnt/backup/crelvo --data ./crelvo-data --passphrase-file passphrase\n" +
			"  crelvo restore /mnt/backup/crelvo --data ./crelvo-data --as-of 2026-11-20 --key-file secret-key\n" +
			"  crelvo restore /mnt/backup/crelvo --data ./crelvo-data --key-file secret-key " +
			"--store 's3+https://s3.skerry.example/packages/crelvo?region=north'",
		RunE: func(cmd *cobra.Command, args []string) error {
			var moment time.Time
			var err error
			if asOf != "" {
				if moment, err = parseMoment(asOf, time.Now(), true); err != nil {
					return usageError{err}
				}
			}
			return atTarget(args[0], func(t *backups.Target) error {
				m, err := t.Manifest(cmd.Context(), name, moment)
				if err != nil {
					return err
				}
				lock, err := lockFolder(data)
				if err != nil {
					return err
				}
				defer lock.Close()
				if err := restoreKey(cmd, m, data, passphraseFile, keyFile); err != nil {
					return err
				}
				r := &backups.Restoring{From: t, Backup: m, Database: database, Store: storeAt,
					Folder: filepath.Join(data, "store"), Local: filepath.Join(data, "stores", "1")}
				fmt.Fprintf(cmd.ErrOrStderr(), "Bringing back %s: %d files, %s.\n", m.Name, m.Files, api.Bytes(m.Bytes))
				if err := bringBack(cmd, r, data); err != nil {
					return err
				}
				fmt.Fprintf(cmd.OutOrStdout(), "All is as it was at %s. Start it (crelvo serve --data %s%s), and have crelvo verify "+
					"read it through.\n", timeText(m.At), data, also(database))
				if len(m.Missing) > 0 {
					fmt.Fprintf(cmd.OutOrStdout(), "The bytes of %d files were missing already when the backup was made.\n",
						len(m.Missing))
				}
				return nil
			})
		}}
	f := cmd.Flags()
	f.StringVar(&data, "data", "./crelvo-data", "the folder that the service is to keep everything in")
	f.StringVar(&database, "database", "", "the address of an empty PostgreSQL database (default: a private server in the "+
		"data folder)")
	f.StringVar(&storeAt, "store", "", "where the bytes are to go: the whole path of an empty folder, or "+
		"s3+https://HOST/BUCKET/PREFIX (default: the data folder)")
	f.StringVar(&name, "backup", "", "the one of that name (default: the last one)")
	f.StringVar(&asOf, "as-of", "", "the last one before a moment, such as 2026-11-20 or 3d")
	f.StringVar(&passphraseFile, "passphrase-file", "", "a file with the passphrase that the key was sealed with; - is the "+
		"standard input")
	f.StringVar(&keyFile, "key-file", "", "the key of the server, where it is not in the backup")
	cmd.MarkFlagsMutuallyExclusive("backup", "as-of")
	cmd.MarkFlagsMutuallyExclusive("passphrase-file", "key-file")
	return cmd
}

func also(database string) string {
	if database == "" {
		return ""
	}
	return " --database …"
}

// restoreKey writes the key of the server to where the service looks for it.
func restoreKey(cmd *cobra.Command, m backups.Manifest, data, passphraseFile, keyFile string) error {
	to := filepath.Join(data, "secret-key")
	switch {
	case passphraseFile != "" && m.Key == nil:
		return fault.New(fault.Invalid, "no-key", "the backup has no key").
			WithHint("Give the key of the server itself: --key-file.")
	case passphraseFile != "":
		passphrase, err := readSecret(cmd, passphraseFile)
		if err != nil {
			return err
		}
		key, err := m.Key.Open(passphrase)
		if err != nil {
			return err
		}
		return os.WriteFile(to, []byte(hex.EncodeToString(key[:])+"\n"), 0o600)
	case keyFile != "":
		raw, err := os.ReadFile(keyFile)
		if err != nil {
			return err
		}
		return os.WriteFile(to, raw, 0o600)
	}
	if _, err := os.Stat(to); errors.Is(err, fs.ErrNotExist) {
		return usageError{fmt.Errorf("say which key the server had: --passphrase-file, or --key-file; without it what is kept " +
			"encrypted cannot be read (serve --lose-secrets)")}
	}
	return nil
}

// bringBack brings bytes and records back, and tells how far it is.
func bringBack(cmd *cobra.Command, r *backups.Restoring, data string) (err error) {
	if r.Database == "" {
		postgres, err := privatepg.Start(cmd.Context(), filepath.Join(data, "postgres"))
		if err != nil {
			return err
		}
		r.Database = postgres.URL
		defer func() { err = errors.Join(err, postgres.Stop()) }()
	}
	ended := make(chan error, 1)
	go func() { ended <- r.Restore(cmd.Context()) }()
	ticker := time.NewTicker(2 * time.Second)
	defer ticker.Stop()
	for {
		select {
		case err := <-ended:
			return err
		case <-ticker.C:
			files, bytes := r.Done()
			fmt.Fprintf(cmd.ErrOrStderr(), "%d of %d files, %s\n", files, r.Backup.Files, api.Bytes(bytes))
		}
	}
}
