package wordpress

import (
	"context"
	"fmt"
	"net/url"
	"path"
	"regexp"
	"strings"

	"alibi/internal/tables"
	"alibi/internal/tree"
)

var (
	// monthly are the files of the media library, of one site or of one of a network's.
	monthly = regexp.MustCompile(`^wp-content/uploads/(sites/\d+/)?\d{4}/\d{2}/[^/]+$`)
	// leftBehind are archives and dumps of databases. Those that components bring are theirs.
	leftBehind = regexp.MustCompile(`(?i)\.(sql|dump|zip|tar|tgz|7z|bz2|xz|(sql|dump|tar)\.(gz|bz2|xz|zst))$`)
	brought    = regexp.MustCompile(`^wp-(admin|includes|content/(plugins|themes|mu-plugins|languages))/`)
	// variant is what the CMS and what makes pictures smaller add to a picture's name.
	variant = regexp.MustCompile(`(-\d+x\d+|-scaled|-rotated|-e\d{10,}|@2x)+$`)
)

// TrimFiles tells of files that nothing in the site's tables names to which part they belong. A file stays if any text
// there has its name, or the name of a picture of which it may be another size.
func (Stack) TrimFiles(ctx context.Context, snap tables.Snapshot, files []tree.Entry) (map[string]string, error) {
	out := map[string]string{}
	named := map[string][]string{} // paths by what names them
	for _, f := range files {
		base := path.Base(f.Path)
		if !f.Regular() || strings.ContainsFunc(base, ends) {
			continue // a name that could not be told from the text around it
		}
		switch {
		case leftBehind.MatchString(base) && !brought.MatchString(f.Path):
			out[f.Path] = trimCopies
		case monthly.MatchString(f.Path):
			out[f.Path] = trimMedia
		default:
			continue
		}
		named[family(base)] = append(named[family(base)], f.Path)
	}
	for _, t := range snap.Schema().Tables {
		if len(out) == 0 {
			break
		}
		err := snap.Read(ctx, t.Name, tables.Range{}, func(r tables.Row) error {
			for _, v := range r.Values {
				names(string(v.Bytes), func(name string) {
					for _, p := range named[family(name)] {
						delete(out, p)
					}
				})
			}
			return nil
		})
		if err != nil {
			return nil, fmt.Errorf("looking for the names of files in table %s: %w", t.Name, err)
		}
	}
	return out, nil
}

// family is what a picture and its other sizes have in common.
func family(base string) string {
	base = strings.ToLower(base)
	for { // photo.jpg.webp is another form of photo.jpg
		ext := path.Ext(base)
		if ext == "" || len(ext) == len(base) {
			break
		}
		base = strings.TrimSuffix(base, ext)
	}
	return variant.ReplaceAllString(base, "")
}

// ends tells whether a name of a file in a text ends at r.
func ends(r rune) bool { return r <= ' ' || strings.ContainsRune(`/\"'`+"`<>()[]{};,=?&#|:*", r) }

// names gives all that may be the name of a file in a text.
func names(text string, give func(string)) {
	if !strings.Contains(text, ".") {
		return
	}
	for _, word := range strings.FieldsFunc(text, ends) {
		if !strings.Contains(word, ".") {
			continue
		}
		give(word)
		if strings.Contains(word, "%") {
			if plain, err := url.PathUnescape(word); err == nil {
				give(path.Base(plain))
			}
		}
	}
}
