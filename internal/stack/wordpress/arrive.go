package wordpress

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"strings"

	"alibi/internal/host"
	"alibi/internal/rewrite"
	"alibi/internal/stack"
	"alibi/internal/stack/phpsrc"
)

// Arrive writes the configuration for another place, and the files around it that name the folder where the site
// stands: those that PHP and the web server read, and what plugins load before all else.
func (Stack) Arrive(ctx context.Context, origin stack.Place, c stack.Change) (map[string][]byte, error) {
	out := map[string][]byte{}
	for _, dir := range []string{".", "wp-admin", "wp-content", "wp-content/mu-plugins"} {
		list, err := origin.Root.ReadDir(dir)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("looking for files that name the site's folder: %w", err)
		}
		for _, fi := range list {
			name := path.Join(dir, fi.Name())
			if !fi.Mode().IsRegular() || fi.Size() > maxConfig || name == "wp-config.php" || !namesPlaces(dir, fi.Name()) {
				continue
			}
			text, err := host.ReadFile(origin.Root, name, maxConfig)
			if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
				continue // it is seen where the files are brought
			}
			if err != nil {
				return nil, err
			}
			if now := elsewhere(name, text, c); !bytes.Equal(now, text) {
				out[name] = now
			}
		}
	}
	conf, err := arriving(ctx, origin, c)
	if err != nil {
		return nil, err
	}
	out["wp-config.php"] = []byte(conf)
	return out, nil
}

// namesPlaces tells which files may name the folder of the site: what stands around the configuration, and what is
// loaded with each page from the folder of the content.
func namesPlaces(dir, name string) bool {
	if around.MatchString(name) {
		return true
	}
	return strings.HasPrefix(dir, "wp-content") && strings.HasSuffix(name, ".php")
}

// elsewhere is such a file where the site stands in another folder.
func elsewhere(name string, text []byte, c stack.Change) []byte {
	if c.Rewriter == nil {
		return text
	}
	if strings.HasSuffix(name, ".php") {
		return []byte(rewriteStrings(string(text), c.Rewriter))
	}
	if len(c.Origin.Addresses) > 0 && path.Base(name) == ".htaccess" {
		text = inFolder(text, c.Origin.Addresses[0].Path, c.Copy.Address().Path)
	}
	if now, n, _ := c.Rewriter.Value(text, rewrite.Settings); n > 0 {
		return now
	}
	return text
}

// rules are the lines of the web server's own file that say where requests go to.
var rules = regexp.MustCompile(`(?m)^[ \t]*(RewriteBase|RewriteRule|ErrorDocument)[ \t].*$`)

// inFolder is such a file where the site answers in another folder of its address.
func inFolder(text []byte, from, to string) []byte {
	if from == to {
		return text
	}
	to = strings.ReplaceAll(to, "$", "$$")
	target := regexp.MustCompile(`([ \t])` + regexp.QuoteMeta(from) + `/`)
	return rules.ReplaceAllFunc(text, func(line []byte) []byte {
		return target.ReplaceAll(line, []byte("${1}"+to+"/"))
	})
}

// arriving is the configuration in the other place: as it is, but for the database and for folders. Where a constant is
// set in one place, in no branch, it is changed there; else all of them are set before anything else.
func arriving(ctx context.Context, origin stack.Place, c stack.Change) (string, error) {
	conf, _, err := loadConfig(ctx, origin)
	if err != nil {
		return "", err
	}
	file := path.Join(c.Copy.Root, "wp-config.php")
	conf = readConfig(rewriteStrings(conf.Src, c.Rewriter), file)
	own := &ownConfig{}
	if err := own.database(ctx, origin, c); err != nil {
		return "", err
	}
	if c.Copy.Database.InFile() {
		if dir, there := conf.Constants["DB_DIR"]; there && dir.Value != path.Dir(c.Copy.Database.Path) {
			own.set("DB_DIR", phpsrc.Literal(path.Dir(c.Copy.Database.Path)))
		}
	}
	if conf.branches(own.names...) {
		return own.before(conf, c.Origin.Prefix), nil
	}
	for _, name := range own.names {
		conf = readConfig(conf.With(name, own.literals[name]), file)
	}
	return conf.Src, nil
}
