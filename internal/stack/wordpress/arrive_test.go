package wordpress

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestTheWebServersRulesOfAnotherFolder(t *testing.T) {
	const of = "# BEGIN\nRewriteRule .* - [E=HTTP_AUTHORIZATION:%{HTTP:Authorization}]\nRewriteBase /boats/\n" +
		"RewriteRule ^index\\.php$ - [L]\nRewriteCond %{REQUEST_FILENAME} !-f\nRewriteRule . /boats/index.php [L]\n" +
		"ErrorDocument 404 /boats/gone.html\n# /boats/ was here\nRewriteRule ^x$ /boats-of-others/x [L]\n"
	now := string(inFolder([]byte(of), "/boats", "/ferries/$1"))
	assert.Contains(t, now, "RewriteBase /ferries/$1/\n")
	assert.Contains(t, now, "RewriteRule . /ferries/$1/index.php [L]")
	assert.Contains(t, now, "ErrorDocument 404 /ferries/$1/gone.html")
	assert.Contains(t, now, "# /boats/ was here")
	assert.Contains(t, now, "/boats-of-others/x")
	root := string(inFolder([]byte(of), "/boats", ""))
	assert.Contains(t, root, "RewriteBase /\n")
	assert.Equal(t, of, string(inFolder([]byte(of), "/boats", "/boats")))
	back := string(inFolder([]byte("RewriteBase /\nRewriteRule . /index.php [L]\n"), "", "/boats"))
	assert.Equal(t, "RewriteBase /boats/\nRewriteRule . /boats/index.php [L]\n", back)
}
