package cli

import (
	"context"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"alibi/internal/desk"
	"alibi/internal/op/keep"
	"alibi/internal/site"
)

func (a *app) pointDiff() *cobra.Command {
	return &cobra.Command{
		Use:   "diff POINT",
		Short: "Tell what became of a site since a restore point",
		Long: "Compare a restore point with its site as it is now: files added, changed and removed, and rows by " +
			"table. Both are only read. Files of the same size and time are taken for the same.",
		Args: args(cobra.ExactArgs(1)),
		RunE: a.withPoint(func(ctx context.Context, d *desk.Desk, p desk.Point) error {
			c, err := d.Points.Since(ctx, p)
			if err != nil {
				return err
			}
			return a.print(c, func(w io.Writer) { printChanges(w, c) })
		}),
	}
}

func printChanges(w io.Writer, c *keep.Changes) {
	table(w, func(row func(...string)) {
		for _, t := range c.Tables {
			what := fmt.Sprintf("%d rows added, %d changed, %d removed", t.Added, t.Changed, t.Removed)
			if t.Shape {
				what += "; its definition changed"
			}
			row("table", t.Name, what)
		}
		for _, f := range c.Files {
			row("file", f.Path, f.What)
		}
	})
	fmt.Fprintf(w, "%s files and %s rows are as they were\n", site.Number(c.Same.Files), site.Number(c.Same.Rows))
}

func (a *app) pointFiles() *cobra.Command {
	return &cobra.Command{
		Use:   "files POINT [FOLDER]",
		Short: "List what a folder held at a restore point",
		Args:  args(cobra.RangeArgs(1, 2)),
		RunE: a.with(func(ctx context.Context, d *desk.Desk, given []string) error {
			p, err := d.Points.FindPoint(ctx, given[0])
			if err != nil {
				return err
			}
			dir := ""
			if len(given) > 1 {
				dir = given[1]
			}
			list, err := d.Points.Browse(ctx, p, dir)
			if err != nil {
				return err
			}
			type file struct {
				Name   string `json:"name"`
				Folder bool   `json:"folder"`
				Size   int64  `json:"size"`
				Time   string `json:"time"`
			}
			out := make([]file, len(list))
			for i, fi := range list {
				out[i] = file{fi.Name(), fi.IsDir(), fi.Size(), fi.ModTime().Local().Format("2006-01-02 15:04:05")}
			}
			return a.print(out, func(w io.Writer) {
				table(w, func(row func(...string)) {
					for _, f := range out {
						size := site.Size(f.Size)
						if f.Folder {
							size = "folder"
						}
						row(f.Time, size, f.Name)
					}
				})
			})
		}),
	}
}

func (a *app) pointDump() *cobra.Command {
	return &cobra.Command{
		Use:   "dump POINT FILE",
		Short: "Write the tables of a restore point as SQL",
		Long: "Write the tables, views, triggers, routines and events of a restore point to a new file on this " +
			"machine, as statements that the client of MariaDB or MySQL loads (mariadb --comments DATABASE <FILE), " +
			"or SQLite's shell (sqlite3 NEW.db <FILE). It holds what the site's database held, passwords' digests " +
			"and addresses too; only you may read it.",
		Args: args(cobra.ExactArgs(2)),
		RunE: a.with(func(ctx context.Context, d *desk.Desk, given []string) error {
			p, err := d.Points.FindPoint(ctx, given[0])
			if err != nil {
				return err
			}
			size, err := d.Points.Dump(ctx, p, given[1])
			if err != nil {
				return err
			}
			return a.print(map[string]int64{"bytes": size}, func(w io.Writer) {
				fmt.Fprintf(w, "%s rows in %d tables, %s, are in %s\n", site.Number(p.Rows), len(p.Tables),
					site.Size(size), given[1])
			})
		}),
	}
}

func (a *app) pointExtract() *cobra.Command {
	return &cobra.Command{
		Use:   "extract POINT PATH TO",
		Short: "Bring a file or folder of a restore point to a new place on this machine",
		Long: "Bring a file or folder of a restore point (\".\" is all) to a new place on this machine, whole or " +
			"not at all. Nothing is written over.",
		Args: args(cobra.ExactArgs(3)),
		RunE: a.with(func(ctx context.Context, d *desk.Desk, given []string) error {
			p, err := d.Points.FindPoint(ctx, given[0])
			if err != nil {
				return err
			}
			files, bytes, err := d.Points.Extract(ctx, p, given[1], given[2])
			if err != nil {
				return err
			}
			return a.print(map[string]int64{"files": int64(files), "bytes": bytes}, func(w io.Writer) {
				fmt.Fprintf(w, "%s files, %s, are in %s\n", site.Number(files), site.Size(bytes), given[2])
			})
		}),
	}
}
