package desk

import (
	"path/filepath"

	"alibi/internal/secrets"
)

// safe has the secrets that people keep by name.
func (d *core) safe() secrets.Store {
	return secrets.Store{Path: filepath.Join(d.opt.Home, "secrets.age"), Key: d.config.Secrets.Key}
}

// Secrets are those that people keep by name.
func (d *Fleet) Secrets() secrets.Store { return d.safe() }
