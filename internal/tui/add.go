package tui

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/desk"
	"alibi/internal/inventory"
	"alibi/internal/site"
)

// addScreen takes a live site or a host under management.
type addScreen struct {
	form
	host bool // a host, not a site
}

func newAdd(a *app) *addScreen {
	return &addScreen{form: form{values: map[string]string{"on": a.board.Machine}}}
}

func (f *addScreen) fields() []field {
	if f.host {
		return []field{{"name", "what to call it", "short, such as pier"},
			{"addr", "address", "a name in ~/.ssh/config, or [user@]host[:port]; ftps://user@host, or https://admin@site"},
			{"key", "key file", "if it is not in the agent or the configuration; may stay empty"},
			{"password", "password file", "a file with the account's password (FTP, HTTPS); may stay empty: it is asked for"}}
	}
	return []field{{"on", "on which host", "this machine's name, or a host that was added; Ctrl+T adds a host"},
		{"root", "document root", "the absolute path of the folder that the web server shows; may stay empty by https://"},
		{"address", "address", "only if the site does not say so itself"},
		{"client", "client", "whose it is; may stay empty"}, {"owner", "owner", "who answers for it; may stay empty"},
		{"database", "database", "only where the site's configuration names several"},
		{"relay", "relay", "only where the database can't be reached: the address that shows the folder, such as " +
			"https://ferry.example. A PHP file of ours, put there while it is needed, then reaches the tables."}}
}

func (f *addScreen) title(*app) string {
	return site.Either(f.host, "add a host", "add a live site")
}

func (f *addScreen) update(a *app, msg tea.Msg) (tea.Cmd, bool) {
	if k, ok := msg.(tea.KeyPressMsg); ok {
		switch k.String() {
		case "ctrl+t":
			f.host, f.at = !f.host, 0
			return nil, true
		case "enter":
			return f.add(a), true
		}
	}
	return nil, f.typed(f.fields(), msg)
}

func (f *addScreen) add(a *app) tea.Cmd {
	v := f.values
	if f.host {
		a.say("asking "+v["addr"]+" ...", false)
		h := inventory.Host{Name: v["name"], Addr: v["addr"], Key: v["key"], PasswordFile: v["password"]}
		if w, plain := inventory.PlainWay(h.Addr); plain {
			a.say(w+":// encrypts nothing: add it by command, with --plain", true)
			return nil
		}
		return a.doThen(func() (string, func(*app) tea.Cmd, error) {
			err := a.desk.Fleet.AddHost(a.ctx, h)
			return "host " + h.Name + " answers; now name a site on it", func(*app) tea.Cmd {
				f.host, f.at = false, 1
				v["on"] = h.Name
				return nil
			}, err
		})
	}
	a.say("reading "+v["root"]+" on "+v["on"]+" ...", false)
	n := desk.NewSite{Host: v["on"], Root: v["root"], Address: v["address"], Client: v["client"], Owner: v["owner"],
		Database: v["database"], Relay: v["relay"]}
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		s, err := a.desk.Fleet.AddSite(a.ctx, n)
		return s.Name + " was added; nothing was written to it", func(a *app) tea.Cmd {
			a.pop()
			a.push(newSite(s.ID))
			return nil
		}, err
	})
}

func (f *addScreen) keys(*app) []hint {
	return []hint{{"Enter", site.Either(f.host, "ask the host", "read and add it")}, {"Tab", "next"},
		{"Ctrl+T", site.Either(f.host, "a site instead", "a host instead")}, {"Esc", "back"}}
}

func (f *addScreen) words() []hint {
	return []hint{{"live", "a site that visitors depend on; adding it writes nothing to it"},
		{"document root", "the folder with the site's index page or the CMS's files"},
		{"host", "a machine where sites live, reached by SSH with your own keys, by FTP, or by a site's own pages"}}
}

func (f *addScreen) view(a *app, w, h int) []string {
	t := a.theme
	out := []string{""}
	say := func(text string) {
		for _, line := range wrap(text, w-4) {
			out = append(out, t.soft.Render("  "+line))
		}
		out = append(out, "")
	}
	say(site.Either(f.host, "Alibi signs in as you do: with your agent, keys, ~/.ssh/config and known hosts; by FTP "+
		"with a password. https://admin@site is a host of which only a site is known: a plugin of one file is uploaded "+
		"there by that administrator's account, reaches files and tables, and is removed when Alibi is done.",
		"The folder is read to see what is in it. Nothing is written to a live site, but for a relay's file."))
	out = append(out, f.lines(t, f.fields(), w)...)
	if f.host {
		return out
	}
	say("hosts: " + strings.Join(a.hostNames(), ", "))
	return out
}

// hostNames are the hosts that sites on the board stand on, and this machine.
func (a *app) hostNames() []string {
	hosts, err := a.desk.Fleet.Hosts(a.ctx)
	if err != nil {
		return nil
	}
	var out []string
	for _, h := range hosts {
		out = append(out, h.Name+site.Either(h.Local(), " (this machine)", ""))
	}
	return out
}
