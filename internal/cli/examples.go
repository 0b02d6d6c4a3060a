package cli

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"github.com/spf13/cobra"
)

// helpWidth is how many columns a line of help has at most.
const helpWidth = 80

// explain gives each command its examples, and breaks long texts into lines.
func explain(c *cobra.Command) {
	if !c.HasParent() {
		lines := fmt.Sprint(".FlagUsagesWrapped ", helpWidth)
		c.SetUsageTemplate(strings.ReplaceAll(c.UsageTemplate(), ".FlagUsages", lines))
	}
	var long []string
	for _, l := range strings.Split(c.Long, "\n") {
		long = append(long, folded(l, helpWidth)...)
	}
	c.Long = strings.Join(long, "\n")
	if lines := examples[strings.TrimPrefix(c.CommandPath(), "alibi ")]; lines != "" {
		c.Example = "  alibi " + strings.ReplaceAll(strings.TrimSpace(lines), "\n", "\n  alibi ")
	}
	for _, sub := range c.Commands() {
		explain(sub)
	}
}

// folded breaks a line between words, so that none is longer than width, if its words
// are not.
func folded(line string, width int) (out []string) {
	for utf8.RuneCountInString(line) > width {
		cut := strings.LastIndexByte(string([]rune(line)[:width+1]), ' ')
		if cut <= 0 {
			break
		}
		out, line = append(out, line[:cut]), line[cut+1:]
	}
	return append(out, line)
}

// examples are what people type, by command.
var examples = map[string]string{
	"alibi":      "list\n--home /srv/alibi list",
	"add":        "add /srv/www/skerryline\nadd pier:/srv/tickets/public --name tickets --client \"Skerry Line\"",
	"bring-back": "bring-back winter-prices",
	"bulk":       "bulk keep skerryline.example tickets\nbulk remove near far --confirm \"remove 2\"",
	"caches":     "caches winter-prices\ncaches winter-prices --object off",
	"carry":      "carry winter-prices wp-content/themes/harbour skerryline.example --plan",
	"caught":     "caught winter-prices\ncaught winter-prices 3",
	"components": "components winter-prices --updates\ncomponents winter-prices --history",
	"copy": "copy skerryline.example\n" +
		"copy skerryline.example --name winter-prices --lease 3d --for \"the winter prices\"\n" +
		"copy skerryline.example --only pages --plan",
	"costs":      "costs",
	"deleted":    "deleted",
	"deliveries": "deliveries",
	"demo":       "demo\ndemo --real",
	"declare":    "declare skerryline.example",
	"drift":      "drift winter-prices\ndrift winter-prices --noise\ndrift winter-prices --with far-prices",
	"edit":       "edit winter-prices wp-content/themes/harbour/style.css",
	"ends":       "ends",
	"evidence":   "evidence winter-prices\nevidence winter-prices --json",
	"expire":     "expire winter-prices",
	"extend":     "extend winter-prices\nextend winter-prices 1w",
	"files":      "files winter-prices wp-content/themes\nfiles winter-prices --changed",
	"forget":     "forget old.skerryline.example --confirm old.skerryline.example",
	"hide":       "hide winter-prices --password-file word.txt",
	"history":    "history\nhistory winter-prices --since 7d",
	"hold":       "hold winter-prices \"sign-off on 4 December\"",
	"host list":  "host list",
	"host add": "host add pier deploy@pier.example\nhost add moor ftps://runa@moor.example --password-file " +
		"~/.moor",
	"host show":   "host show pier",
	"host test":   "host test pier",
	"host remove": "host remove pier",
	"host set":    "host set pier --copies /srv/copies --database localhost --database-user alibi",
	"inspect":     "inspect skerryline.example",
	"install":     "install winter-prices tide-table\ninstall winter-prices tide-table@2.5.0",
	"keeper":      "keeper",
	"leftovers":   "leftovers\nleftovers --remove",
	"lift":        "lift winter-prices",
	"list":        "list\nlist tickets --json",
	"logs":        "logs winter-prices --kind fatal\nlogs winter-prices --log access --match /tides/ -f",
	"maintenance": "maintenance winter-prices --text \"Back at noon\"",
	"move": "move tickets.skerryline.example --to drydock --web 192.0.2.7\nmove tickets-to-drydock go\n" +
		"move tickets-to-drydock switch --confirm tickets.skerryline.example\nmove tickets-to-drydock back --plan\n" +
		"move tickets.skerryline.example crew.skerryline.example --to drydock --root /var/www/{site}\n" +
		"move tickets-to-drydock certificate --into /etc/ssl/sites --reload 'systemctl reload nginx'",
	"access": "access\naccess moor --ask\naccess moor --set way=ftps --set host=moor.example.org --set user=runa\n" +
		"access moor --sheet moor.toml\naccess moor --from moor.toml --check\naccess moor --use",
	"moves":    "moves",
	"moves go": "moves go\nmoves go tickets-to-drydock crew-to-drydock --again",
	"notices":  "notices try",
	"trim": "trim skerryline.example\ntrim skerryline.example --sheet trim.toml\n" +
		"trim skerryline.example --from trim.toml --confirm skerryline.example",
	"secrets":        "secrets list",
	"secrets put":    "secrets put moor-ftp\nsecrets put moor-ftp --file word.txt",
	"secrets list":   "secrets list",
	"secrets remove": "secrets remove moor-ftp",
	"notices try":    "notices try",
	"open":           "open winter-prices\nopen winter-prices --as editor",
	"override":       "override winter-prices\noverride winter-prices --off",
	"owner":          "owner skerryline.example runa",
	"park":           "park winter-prices --text \"Back on Friday\" --contact harbour@skerryline.example",
	"proxy":          "proxy winter-prices\nproxy tickets-to-drydock",
	"query":          "query winter-prices \"SELECT COUNT(*) FROM sk_posts\" --csv",
	"refresh":        "refresh winter-prices\nrefresh winter-prices --plan",
	"remove":         "remove winter-prices --confirm winter-prices",
	"rescue":         "rescue winter-prices --again",
	"reset":          "reset winter-prices --plan\nreset winter-prices --to origin",
	"restore":        "restore 20261123-1741 --plan\nrestore skerryline.example --path wp-content/themes",
	"rows":           "rows winter-prices sk_options --column option_name --match tide",
	"runs":           "runs\nruns 3f2a91c07b",
	"runs cancel":    "runs cancel 3f2a91c07b",
	"runtime":        "runtime winter-prices\nruntime winter-prices --php 8.4 --memory 256M",
	"scrub":          "scrub winter-prices\nscrub winter-prices --prove",
	"search":         "search timetable",
	"security":       "security winter-prices",
	"shell":          "shell winter-prices\nshell winter-prices -- ls -l",
	"sync": "sync winter-prices post:12 --to live --plan\nsync winter-prices --all --to copy\n" +
		"sync winter-prices --all --to both --confirm skerryline.example\nsync --undo 3f2a91c07b",
	"switch":    "switch winter-prices --on tide-table --off quay-visits",
	"tables":    "tables winter-prices",
	"timing":    "timing winter-prices --live",
	"trials":    "trials\ntrials 3f2a91c07b",
	"uninstall": "uninstall winter-prices old-slider\nuninstall winter-prices --unused --except plainsail",
	"update":    "update winter-prices --all\nupdate winter-prices --core newest",
	"worklist":  "worklist winter-prices\nworklist winter-prices --note \"moved the menu\"",

	"archives":        "archives",
	"archives make":   "archives make skerryline.example ferry.tar.zst\narchives make 20261123-1741 ferry.tar.zst",
	"archives check":  "archives check ferry.tar.zst",
	"archives import": "archives import ferry.tar.zst --plan",
	"content export":  "content export skerryline.example content.xml",
	"content import":  "content import winter-prices content.xml --plan",
	"content":         "content export skerryline.example content.xml",
	"draw":            "draw leases leases.svg",
	"draw depot":      "draw depot depot.svg",
	"draw drift":      "draw drift winter-prices drift.svg",
	"draw move":       "draw move tickets-to-drydock move.pdf",
	"draw leases":     "draw leases leases.pdf",
	"draw trial":      "draw trial grid.svg",
	"draw versions":   "draw versions fleet.svg",
	"host":            "host list",
	"pins":            "pins list",
	"pins apply":      "pins apply winter-prices --sheet next-spring",
	"pins edit":       "pins edit next-spring",
	"pins import":     "pins import next-spring sheet.toml",
	"pins list":       "pins list",
	"pins lock":       "pins lock next-spring",
	"pins make":       "pins make skerryline.example --name as-live",
	"pins name":       "pins name next-spring --default\npins name next-spring --to spring-2028",
	"pins report":     "pins report\npins report --all",
	"pins set":        "pins set next-spring tide-table \">=2.5 <3\"",
	"pins show":       "pins show next-spring",
	"points":          "points\npoints skerryline.example",
	"points copy":     "points copy 20261123-1741 --name then",
	"points diff":     "points diff 20261123-1741",
	"points dump":     "points dump 20261123-1741 site.sql",
	"points extract":  "points extract 20261123-1741 wp-content/uploads ./uploads",
	"points files":    "points files 20261123-1741 wp-content/uploads",
	"points forget":   "points forget 20261123-1741 --confirm 20261123-1741",
	"points prune":    "points prune --daily 7\npoints prune --daily 7 --go",
	"points rehearse": "points rehearse 20261123-1741",
	"points schedule": "points schedule skerryline.example \"24 hourly, 7 daily\"\npoints schedule " +
		"skerryline.example off",
	"points take":   "points take skerryline.example --name \"before 6.2\"",
	"points verify": "points verify\npoints verify --mend",
}
