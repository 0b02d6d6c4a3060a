package mysql

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"math"
	"strings"

	"alibi/internal/tables"
)

// session is what a client has to say before the statements of a dump, so that
// values are stored as they are written.
const session = `SET NAMES utf8mb4;
SET SESSION time_zone = '+00:00', foreign_key_checks = 0, unique_checks = 0,
	sql_mode = 'NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES,NO_ENGINE_SUBSTITUTION';
`

// Dump writes tables, their rows, and views, triggers, routines and events as
// statements that the server's own client loads into an empty database, or over
// tables of the same names.
func Dump(ctx context.Context, snap tables.Snapshot, to io.Writer) error {
	s := snap.Schema()
	if s.Engine != "mysql" {
		return fmt.Errorf("the tables are kept in %s, and can't be written as MariaDB's statements", s.Engine)
	}
	w := bufio.NewWriterSize(to, 1<<16)
	fmt.Fprintf(w, "-- of a database with the character set %s and the collation %s\n%s", s.Settings["charset"],
		s.Settings["collation"], session)
	for _, t := range s.Tables {
		fmt.Fprintf(w, "\nDROP TABLE IF EXISTS %s;\n%s;\n", at(t), t.Create)
		rows := writerTo(t, "INSERT", math.MaxInt, func(q string) error {
			if err := ctx.Err(); err != nil {
				return err
			}
			_, err := w.WriteString(q + ";\n")
			return err
		})
		if err := rows.flush(snap.Read(ctx, t.Name, tables.Range{}, rows.put)); err != nil {
			return fmt.Errorf("writing table %s: %w", t.Name, err)
		}
	}
	if err := dumpAfter(w, s.After); err != nil {
		return err
	}
	return w.Flush()
}

// dumpAfter writes what is made after the rows: a view after those that it names.
func dumpAfter(w *bufio.Writer, list []tables.Object) error {
	for _, o := range list {
		if o.Kind == "view" {
			fmt.Fprintf(w, "\nDROP VIEW IF EXISTS %s;\n", name(o.Name))
		}
	}
	fmt.Fprint(w, "\nDELIMITER ;;\n")
	for _, o := range list {
		if o.Kind != "view" {
			fmt.Fprintf(w, "SET sql_mode = '%s' ;;\nDROP %s IF EXISTS %s ;;\n%s ;;\n",
				strings.ReplaceAll(o.Mode, "'", ""), strings.ToUpper(o.Kind), name(o.Name), o.SQL)
		}
	}
	fmt.Fprint(w, "SET sql_mode = 'NO_ENGINE_SUBSTITUTION' ;;\n")
	for _, o := range inOrder(list) {
		fmt.Fprintf(w, "%s ;;\n", o.SQL)
	}
	_, err := fmt.Fprint(w, "DELIMITER ;\n")
	return err
}

// inOrder gives the views so that each comes after those that it names.
func inOrder(list []tables.Object) (out []tables.Object) {
	left := map[string]tables.Object{}
	var order []string
	for _, o := range list {
		if o.Kind == "view" {
			left[o.Name] = o
			order = append(order, o.Name)
		}
	}
	var add func(n string)
	add = func(n string) {
		o, ok := left[n]
		if !ok {
			return
		}
		delete(left, n)
		for _, other := range order {
			if strings.Contains(o.SQL, name(other)) {
				add(other)
			}
		}
		out = append(out, o)
	}
	for _, n := range order {
		add(n)
	}
	return out
}

// Typed makes values that were read from a dump what a snapshot gives: each as
// its column keeps it.
func Typed(t tables.Table, values []tables.Value) {
	for i, c := range t.Columns {
		if values[i].Kind == tables.Null {
			continue
		}
		if values[i].Bytes == nil {
			values[i].Bytes = []byte{}
		}
		values[i] = newColumn(c).value(values[i].Bytes)
	}
}
