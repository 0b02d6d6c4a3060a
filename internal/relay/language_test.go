package relay_test

import (
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// newer is what PHP 5.6 does not know, told by PHP's own reading of a file: operators and words that came later, and
// types that are written before arguments or behind a function. 5.6 and 7.0 themselves can't be had here.
const newer = `
$late = array_filter(array('T_COALESCE', 'T_COALESCE_EQUAL', 'T_SPACESHIP', 'T_YIELD_FROM', 'T_FN', 'T_MATCH',
	'T_NULLSAFE_OBJECT_OPERATOR', 'T_ATTRIBUTE', 'T_ENUM', 'T_READONLY', 'T_NAME_QUALIFIED'), 'defined');
$all = array_values(array_filter(token_get_all(file_get_contents($argv[1]), TOKEN_PARSE), function ($t) {
	return !is_array($t) || !in_array($t[0], array(T_WHITESPACE, T_COMMENT, T_DOC_COMMENT));
}));
$text = function ($i) use ($all) { return isset($all[$i]) ? (is_array($all[$i]) ? $all[$i][1] : $all[$i]) : ''; };
foreach ($all as $i => $t) {
	$line = is_array($t) ? $t[2] : 0;
	foreach ($late as $name) {
		if (is_array($t) && $t[0] === constant($name)) { echo "$line: $t[1]\n"; }
	}
	if ($text($i) === ')' && $text($i + 1) === ':' && preg_match('/^[?a-z]/i', $text($i + 2)) && $text($i + 3) === '{') {
		echo "a type behind a function: {$text($i + 2)}\n";
	}
	if (preg_match('/^(string|int|float|bool|iterable|object|mixed)$/', $text($i)) && strpos($text($i + 1), '$') === 0) {
		echo "$line: a type before {$text($i + 1)}\n";
	}
	if ($text($i) === ',' && $text($i + 1) === ')') { // only lists may end so: a call may not before 7.3
		for ($open = 1, $k = $i; $k > 0 && $open > 0;) {
			$k--;
			$open += ($text($k) === ')') - ($text($k) === '(');
		}
		if ($text($k - 1) !== 'array') { echo "a comma at the end of a call\n"; }
	}
	if ($text($i) === '[' && in_array($text($i - 1), array(';', '{', 'as', '}'))) { echo "a list as [ ]\n"; }
	if (is_array($t) && $t[0] === T_NEW && $text($i + 1) === 'class') { echo "$line: a class without a name\n"; }
	if (is_array($t) && $t[0] === T_CATCH && $text($i + 3) === '|') { echo "$line: several in one catch\n"; }
}
`

func notKnownTo56(t *testing.T, file string) string {
	t.Helper()
	out, err := exec.Command("php", "-r", newer, "--", file).CombinedOutput()
	require.NoError(t, err, "%s", out)
	return string(out)
}

func TestARelayIsWrittenForOldVersionsOfPHP(t *testing.T) {
	list, err := filepath.Glob("*.php")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(list), 2)
	for _, file := range list {
		assert.Empty(t, notKnownTo56(t, file), file)
	}
	for _, file := range []string{"coalesce", "typed", "returns", "list", "call"} {
		assert.NotEmpty(t, notKnownTo56(t, filepath.Join("testdata", file+".php")), "this test sees what is newer: %s", file)
	}
}
