package mysql

import (
	"errors"
	"testing"

	driverpkg "github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"

	"alibi/internal/tables"
)

func TestAFullDiskIsSaidWhateverTheServerCallsIt(t *testing.T) {
	for message, number := range map[string]uint16{
		"Disk full (/tmp/#sql_1.MAI); waiting for someone to free some space...":              1021,
		"The table 'sk_posts' is full":                                                        1114,
		"Can't create table `a`.`sk_posts` (errno: 135 \"No more room in record file\")":      1005,
		"Kann Tabelle `a`.`sk_posts` nicht erzeugen (Fehler: 28 \"No space left on device\")": 1005,
		"Can't create table 'sk_posts' (errno: 28 - No space left on device)":                 1005,
		"Got error 28 \"No space left on device\" from storage engine InnoDB":                 1030,
		"Error writing file './a/sk_posts.frm' (Errcode: 28 \"No space left on device\")":     3,
		"Can't create database 'a' (errno: 122 \"Disk quota exceeded\")":                      1006,
	} {
		err := explain(&driverpkg.MySQLError{Number: number, Message: message})
		assert.ErrorIs(t, err, tables.ErrFull, message)
	}
	for message, number := range map[string]uint16{
		"Can't create table `a`.`sk_28` (errno: 150 \"Foreign key constraint is incorrectly formed\")": 1005,
		"Got error 127 \"Incorrect file format\" from storage engine":                                  1030,
		"Duplicate entry '28 \"' for key 'PRIMARY'":                                                    1062,
	} {
		err := explain(&driverpkg.MySQLError{Number: number, Message: message})
		assert.False(t, errors.Is(err, tables.ErrFull), message)
	}
}
