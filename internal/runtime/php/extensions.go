package php

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// Extensions are the loadable parts of a PHP.
type Extensions struct {
	Dir    string   `json:"dir"`
	All    []string `json:"all"`    // that are there
	Loaded []string `json:"loaded"` // as this machine has set it up
}

// list prints them: https://www.php.net/extension_loaded.
const list = `$d = ini_get('extension_dir'); $all = array(); $on = array();
foreach (glob($d . '/*.so') as $f) { $n = basename($f, '.so'); $all[] = $n;
	if (extension_loaded($n === 'opcache' ? 'Zend OPcache' : $n)) { $on[] = $n; } }
echo json_encode(array('dir' => $d, 'all' => $all, 'loaded' => $on));`

// Extensions asks a PHP for its loadable parts.
func (p PHP) Extensions(ctx context.Context) (out Extensions, err error) {
	if p.CLI == "" {
		return out, fmt.Errorf("PHP %s has no command line program here that could be asked for its extensions",
			p.Version)
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, p.CLI, "-d", "display_errors=0", "-r", list)
	cmd.Env = []string{}
	text, err := cmd.Output()
	if err == nil {
		err = json.Unmarshal(text, &out)
	}
	if err != nil {
		return out, fmt.Errorf("asking PHP %s for its extensions: %w", p.Version, err)
	}
	return out, nil
}

// ParseChoice reads which extensions are to be loaded beside the usual ones (intl,
// +intl) and which not (-gd), and writes the choice in one form; "" is the usual ones.
func ParseChoice(words []string) (string, error) {
	var out []string
	for _, w := range words {
		for w := range strings.FieldsFuncSeq(w, func(r rune) bool { return r == ' ' || r == ',' }) {
			name := strings.ToLower(strings.TrimLeft(w, "+-"))
			if name == "" || strings.Trim(name, "abcdefghijklmnopqrstuvwxyz0123456789_") != "" {
				return "", fmt.Errorf("%q is no extension: write intl or +intl for one that is to be there, -gd for "+
					"one that is not", w)
			}
			sign := "+"
			if strings.HasPrefix(w, "-") {
				sign = "-"
			}
			out = append(out, sign+name)
		}
	}
	slices.Sort(out)
	return strings.Join(slices.Compact(out), " "), nil
}

// first are extensions on which others rest.
var first = []string{"mysqlnd", "pdo", "xml", "dom"}

// Load gives the arguments with which PHP loads its usual extensions but for those
// of a choice. None are needed for the usual ones.
func (p PHP) Load(ctx context.Context, choice string) ([]string, error) {
	if choice == "" {
		return nil, nil
	}
	x, err := p.Extensions(ctx)
	if err != nil {
		return nil, err
	}
	names := slices.Clone(x.Loaded)
	for _, w := range strings.Fields(choice) {
		name := w[1:]
		if !slices.Contains(x.All, name) {
			return nil, fmt.Errorf("PHP %s has no extension %s here; it has %s", p.Version, name,
				strings.Join(x.All, ", "))
		}
		names = slices.DeleteFunc(names, func(n string) bool { return n == name })
		if w[0] == '+' {
			names = append(names, name)
		}
	}
	rank := func(n string) int {
		if i := slices.Index(first, n); i >= 0 {
			return i - len(first)
		}
		return 0
	}
	slices.SortFunc(names, func(a, b string) int { return cmp.Or(cmp.Compare(rank(a), rank(b)), cmp.Compare(a, b)) })
	args := []string{"-n", "-c", os.DevNull} // without the files that load the usual ones
	for _, n := range names {
		key := "extension"
		if n == "opcache" || n == "xdebug" {
			key = "zend_extension"
		}
		args = append(args, "-d", key+"="+filepath.Join(x.Dir, n+".so"))
	}
	return args, nil
}
