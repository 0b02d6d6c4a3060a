package demo

import (
	"os"
	"path/filepath"
	"strings"
	"time"

	"alibi/internal/demo/panel"
	"alibi/internal/desk"
)

// settingUp is how long the machines of the demo need for a name: long enough to see it pending.
const settingUp = 6 * time.Second

// openPanels starts the panel of each machine, with the names of its sites attached, and says where they are.
func (w *World) openPanels(wait time.Duration) (out []desk.HostPanel, err error) {
	token := filepath.Join(w.Home, "panel-token")
	const word = "made up for the demo"
	if err := os.WriteFile(token, []byte(word+"\n"), 0o600); err != nil {
		return nil, err
	}
	for _, host := range []string{"drydock", "pier"} {
		names := map[string][]string{}
		for _, s := range w.specs {
			if s.host != host {
				continue
			}
			names[s.root] = []string{s.address}
			if strings.Count(s.address, ".") == 1 {
				names[s.root] = append(names[s.root], "www."+s.address)
			}
		}
		p := &panel.Panel{Token: word, Wait: wait}
		if err := p.Start(names); err != nil {
			return nil, err
		}
		w.panels = append(w.panels, p)
		out = append(out, desk.HostPanel{Host: host, Address: p.Address, TokenFile: token})
	}
	return out, nil
}
