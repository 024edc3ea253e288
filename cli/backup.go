package cli

import (
	"errors"
	"fmt"
	"io"
	"net/url"
	"time"

	"github.com/spf13/cobra"

	"missivum/service"
	"missivum/service/backup"
	"missivum/service/config"
	"missivum/service/doctor"
)

// dataFlags say which data folder is meant: by the settings of the service, or by --data.
type dataFlags struct {
	file, data string
}

func (f *dataFlags) add(c *cobra.Command) {
	c.Flags().StringVar(&f.file, "config", "", "file of settings of the service (environment MISSIVUM_CONFIG)")
	c.Flags().StringVar(&f.data, "data", "", "data folder of the service (default what the settings say)")
}

// load reads the settings.
func (f *dataFlags) load() (*config.Values, error) {
	s := serveFlags{file: f.file}
	flags := map[string]string{}
	if f.data != "" {
		flags["data"] = f.data
	}
	return s.read(flags, nil)
}

// backupCommand is missivum backup.
func (a *app) backupCommand() *cobra.Command {
	f := dataFlags{}
	var output, check string
	c := &cobra.Command{
		Use: "backup", Short: "Write the data folder into one file, also while the service runs",
		Long: `Writes database, pictures, packages, releases and secrets into one zip, as they are at one moment, and reads all of it back
before it gives the file its name. The service may run meanwhile. Keep the file as safe as the folder: it holds people, secrets
and digests of passwords. By itself the service makes backups when backup.folder is set; of old ones it keeps
` + backup.Rule + `.`,
		Example: "  missivum backup --data /var/lib/missivum -o /srv/backup/missivum.zip\n  missivum backup --check /srv/backup/missivum.zip",
		Args:    exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if check != "" {
				list, err := backup.Check(cmd.Context(), check)
				if err != nil {
					return err
				}
				a.printBackup(check, list)
				return nil
			}
			v, err := f.load()
			if err != nil {
				return err
			}
			if output == "" {
				output = backup.Name(a.now())
			}
			var p *progress
			list, err := backup.Make(cmd.Context(), v.Text("data"), output, Version, a.now(), func(done, all int) {
				if p == nil {
					p = a.progress("Writing files", all)
				}
				p.done(done)
			})
			if p != nil {
				p.end()
			}
			if err != nil {
				return err
			}
			a.printBackup(output, list)
			return nil
		},
	}
	f.add(c)
	c.Flags().StringVarP(&output, "output", "o", "", "file to write (default missivum-TIME.zip here)")
	c.Flags().StringVar(&check, "check", "", "read this backup and hold every file against its digest, instead of making one")
	return c
}

// printBackup says what a backup holds.
func (a *app) printBackup(file string, l backup.List) {
	fmt.Fprintf(a.out, "%s is whole: %s people, %s files, %s kB, made %s by version %s.\nThe last entry of its record is %s.\n",
		file, grouped(int(l.People)), grouped(len(l.Files)), grouped(int(l.Bytes()>>10)), l.Made.Format(time.DateTime), l.Program, l.Record)
}

// restoreCommand is missivum restore.
func (a *app) restoreCommand() *cobra.Command {
	f := dataFlags{}
	var replace bool
	c := &cobra.Command{
		Use: "restore FILE", Short: "Read a backup into an empty data folder",
		Long: `Reads a backup, holds every file against its digest, looks through the database, and only then puts it where the data folder
is. That must be empty or not be there; with --replace, what is there is kept beside it. The service must not run on it.`,
		Example: "  missivum restore /srv/backup/missivum-20261128-020000.zip --data /var/lib/missivum",
		Args:    exactly("FILE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			v, err := f.load()
			if err != nil {
				return err
			}
			folder := v.Text("data")
			unlock, err := service.LockExisting(folder)
			if err != nil {
				return err
			}
			list, kept, err := backup.Restore(cmd.Context(), args[0], folder, replace, a.now())
			if err = errors.Join(err, unlock()); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s holds what was backed up on %s: %s people, %s files.\n", folder, list.Made.Format(time.DateTime),
				grouped(int(list.People)), grouped(len(list.Files)))
			if kept != "" {
				fmt.Fprintf(a.out, "What was there before is in %s.\n", kept)
			}
			return nil
		},
	}
	f.add(c)
	c.Flags().BoolVar(&replace, "replace", false, "put it in the place of a folder that is not empty; what is there is kept beside it")
	return c
}

// doctorCommand is missivum doctor.
func (a *app) doctorCommand() *cobra.Command {
	f := dataFlags{}
	c := &cobra.Command{
		Use: "doctor", Short: "Look at the service's data folder, disk, certificate, clock and backups, and say what to do",
		Long: `Looks at what the service needs, changes nothing, and may be run while the service runs. Ends with status 1 when something
is wrong.`,
		Example: "  missivum doctor --config /etc/missivum/settings.yaml", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			v, err := f.load()
			if err != nil {
				return err
			}
			s := doctor.Subject{Data: v.Text("data"), Certificate: v.Text("tls.certificate"), Key: v.Text("tls.key"), Names: v.List("names"),
				Backups: v.Text("backup.folder"), Every: v.Duration("backup.every"), Now: a.now()}
			if u, err := url.Parse(v.Text("address")); err == nil && u.Hostname() != "" {
				s.Names = append(s.Names, u.Hostname())
			}
			list := doctor.Look(cmd.Context(), s)
			a.printResults(a.out, list)
			if doctor.Worst(list) == doctor.Wrong {
				return exitError{code: ExitFindings}
			}
			return nil
		},
	}
	f.add(c)
	return c
}

// printResults says what was found, and what to do.
func (a *app) printResults(out io.Writer, list []doctor.Result) {
	signs := map[doctor.Severity]string{doctor.Fine: a.colour("32", "✓"), doctor.Watch: a.colour("33", "△"), doctor.Wrong: a.colour("31", "✕")}
	for _, r := range list {
		fmt.Fprintf(out, "%s %-12s %s\n", signs[r.Severity], r.What, r.Says)
		if r.Do != "" {
			fmt.Fprintf(out, "  %-12s %s\n", "", r.Do)
		}
	}
}
