package phpval

import (
	"bytes"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func upper(_ Place, _ int, p []byte) ([]byte, bool) {
	if !bytes.Contains(p, []byte("old")) {
		return nil, false
	}
	return bytes.ReplaceAll(p, []byte("old"), []byte("brand-new")), true
}

func TestEdit(t *testing.T) {
	cases := []struct{ name, in, want string }{
		{"string", `s:3:"old";`, `s:9:"brand-new";`},
		{"trailing space kept", "s:3:\"old\";\n ", "s:9:\"brand-new\";\n "},
		{
			"array with keys",
			`a:2:{s:3:"old";i:1;i:7;s:5:"x old";}`,
			`a:2:{s:9:"brand-new";i:1;i:7;s:11:"x brand-new";}`,
		},
		{
			"object, private name with NULs",
			"O:1:\"K\":1:{s:4:\"\x00K\x00p\";s:3:\"old\";}",
			"O:1:\"K\":1:{s:4:\"\x00K\x00p\";s:9:\"brand-new\";}",
		},
		{"multibyte counts bytes", `s:6:"é old";`, `s:12:"é brand-new";`},
		{"quotes and semicolons inside", `s:8:"";s:"old";`, `s:14:"";s:"brand-new";`},
		{"custom payload", `C:3:"Foo":7:{a old b}`, `C:3:"Foo":13:{a brand-new b}`},
		{"escaped string", `S:4:"\0aold";`, `S:10:"\0abrand-new";`},
		{
			"enum, null, bool, double, references",
			`a:7:{i:0;E:6:"Suit:H";i:1;N;i:2;b:1;i:3;d:-1.5E-7;i:4;R:2;i:5;r:1;i:6;s:3:"old";}`,
			`a:7:{i:0;E:6:"Suit:H";i:1;N;i:2;b:1;i:3;d:-1.5E-7;i:4;R:2;i:5;r:1;i:6;s:9:"brand-new";}`,
		},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			got, err := Edit([]byte(c.in), upper)
			require.NoError(t, err)
			assert.Equal(t, c.want, string(got))
		})
	}
}

func TestEditLeavesUnchangedValuesAlone(t *testing.T) {
	in := []byte(`a:1:{s:1:"k";s:5:"other";}`)
	out, err := Edit(in, upper)
	require.NoError(t, err)
	assert.Same(t, &in[0], &out[0])
}

func TestEditAtAsksOnlyWhereItIsTold(t *testing.T) {
	in := []byte(`a:3:{s:3:"old";s:7:"old old";i:1;s:3:"old";s:1:"k";a:1:{i:0;s:3:"old";}}`)
	at := func(n int) int { // where the nth old stands
		from := 0
		for range n {
			from += bytes.Index(in[from:], []byte("old")) + 1
		}
		return from - 1
	}
	out, err := EditAt(in, []int{at(2), at(5)}, upper)
	require.NoError(t, err)
	assert.Equal(t, `a:3:{s:3:"old";s:19:"brand-new brand-new";i:1;s:3:"old";s:1:"k";a:1:{i:0;s:9:"brand-new";}}`,
		string(out))
	out, err = EditAt(in, nil, upper)
	require.NoError(t, err)
	assert.Same(t, &in[0], &out[0])
	for _, bad := range []string{`a:2:{s:3:"old";s:2:"xy";s:3:"old";s:9:"short";}`, `a:1:{s:3:"old";s:2:"xy";`,
		`a:1:{s:3:"old";s:2:"xy";}}`} {
		_, err = EditAt([]byte(bad), nil, upper)
		assert.ErrorIs(t, err, ErrSyntax, "what is passed by is checked too: %s", bad)
	}
}

func TestEditAtEverywhereIsEdit(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		v := Map("old", genValue(3).Draw(t, "value"), "k", "x old y").Marshal()
		var all []int
		for i := range v {
			all = append(all, i)
		}
		a, err := Edit(v, upper)
		require.NoError(t, err)
		b, err := EditAt(v, all, upper)
		require.NoError(t, err)
		assert.Equal(t, string(a), string(b))
	})
}

func TestBrokenValuesAreRefused(t *testing.T) {
	for _, in := range []string{
		"", "s", `s:4:"old";`, `s:3:"old"`, `a:1:{i:0;}`, `a:1:{i:0;i:1;`, `a:1:{a:0:{}i:1;}`, `i:;`, `i:--1;`, `b:2;`,
		`d:x;`, `d:1-2;`,
		`s:3:"old";x`, `O:0:"":0:{}`, `O:1:"K":1:{}`, `C:3:"Foo":99:{}`, `E:4:"Suit";`, `a:99999999999999999999:{}`,
		`S:1:"\zz";`, `Z:1;`, `s:-1:"";`,
	} {
		_, err := Edit([]byte(in), upper)
		assert.ErrorIs(t, err, ErrSyntax, in)
		_, err = Parse([]byte(in))
		assert.ErrorIs(t, err, ErrSyntax, in)
	}
}

func TestDeepNesting(t *testing.T) {
	deep := func(n int) []byte {
		return []byte(strings.Repeat("a:1:{i:0;", n) + "N;" + strings.Repeat("}", n))
	}
	assert.True(t, Valid(deep(MaxDepth)))
	assert.False(t, Valid(deep(MaxDepth+1)))
	_, err := Parse(deep(600))
	assert.ErrorIs(t, err, ErrSyntax)
}

func TestLooks(t *testing.T) {
	for in, want := range map[string]bool{`a:1:{`: true, `s:3:"x`: true, `O:1:"K"`: true, `a:1 way`: false,
		`s:x:"`: false, `as`: false, `i:1;;;`: false, `E:3:"A:B";`: true} {
		assert.Equal(t, want, Looks([]byte(in)), in)
	}
}

// genValue draws any value that serialize() can write.
func genValue(depth int) *rapid.Generator[Value] {
	return rapid.Custom(func(t *rapid.T) Value {
		kinds := []byte("Nbids")
		if depth > 0 {
			kinds = []byte("NbidsaaOC")
		}
		v := Value{Kind: rapid.SampledFrom(kinds).Draw(t, "kind")}
		switch v.Kind {
		case 'b':
			v.Int = rapid.Int64Range(0, 1).Draw(t, "b")
		case 'i':
			v.Int = rapid.Int64().Draw(t, "i")
		case 'd':
			v.Float = rapid.Float64Range(-1e9, 1e9).Draw(t, "d")
		case 's':
			v.Str = string(rapid.SliceOf(rapid.Byte()).Draw(t, "s"))
		case 'C':
			v.Class, v.Str = "ArrayObject", "x:i:0;a:0:{};m:a:0:{}"
		case 'a', 'O':
			if v.Kind == 'O' {
				v.Class = "stdClass"
			}
			for i := range rapid.IntRange(0, 4).Draw(t, "n") {
				key := String("k" + string(rune('a'+i)) + rapid.StringMatching(`[a-z"\\;]{0,4}`).Draw(t, "key"))
				v.Items = append(v.Items, Item{key, genValue(depth-1).Draw(t, "v")})
			}
		}
		return v
	})
}

func TestParseIsTheInverseOfMarshal(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		v := genValue(4).Draw(t, "value")
		b := v.Marshal()
		got, err := Parse(b)
		require.NoError(t, err)
		assert.Equal(t, b, got.Marshal())
		assert.True(t, Valid(b))
	})
}

// php runs code with in on standard input and gives what it prints.
func php(t *testing.T, code string, in []byte) string {
	t.Helper()
	cmd := exec.Command("php", "-d", "error_reporting=0", "-r", code)
	cmd.Stdin = bytes.NewReader(in)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "php is needed for this test: %s", out)
	return string(out)
}

func TestPHPReadsWhatEditWrites(t *testing.T) {
	var batch bytes.Buffer
	n := 0
	rapid.Check(t, func(t *rapid.T) {
		v := Map("old", genValue(3).Draw(t, "value"), "plain", "an old é\x00 text")
		out, err := Edit(v.Marshal(), upper)
		require.NoError(t, err)
		batch.WriteString(base64Line(out))
		n++
	})
	got := php(
		t,
		`foreach (file('php://stdin') as $l) { $v = unserialize(base64_decode($l));
			echo is_array($v) && $v['plain'] === "an brand-new é\0 text" && array_key_exists('brand-new', $v) ? 'y' : 'n'; }`,
		batch.Bytes(),
	)
	assert.Equal(t, strings.Repeat("y", n), got)
}

func TestWhatPHPWritesIsValid(t *testing.T) {
	code := `enum Suit: string { case Hearts = 'H'; } class P { private $a = "old"; protected $b = 2; public $c; }
	$p = new P; $p->c = $p; $q = [1, 'x' => &$p]; $f = new SplObjectStorage; $f[new P] = 1;
	foreach ([$p, $q, Suit::Hearts, new ArrayObject(['old' => 'old']), $f, 1.5, -0.0, NAN, INF, 1e100,
		PHP_INT_MIN, "\0é", null, [true, [[]]]] as $v) echo base64_encode(serialize($v)), "\n";`
	lines := strings.Fields(php(t, code, nil))
	require.Len(t, lines, 14)
	for _, l := range lines {
		v := unbase64(t, l)
		assert.True(t, Valid(v), "%q", v)
		out, err := Edit(v, upper)
		require.NoError(t, err)
		assert.Equal(
			t,
			"ok",
			php(
				t,
				`enum Suit: string { case Hearts = 'H'; } class P { private $a; protected $b; public $c; }
				$s = stream_get_contents(STDIN); echo unserialize($s) !== false || $s === 'b:0;' ? 'ok' : 'broken';`,
				out,
			),
			"%q",
			out,
		)
	}
}

func FuzzEdit(f *testing.F) {
	for _, s := range []string{`a:1:{i:0;s:3:"old";}`, `C:3:"Foo":3:{old}`, `S:1:"\00";`, `O:1:"K":1:{s:1:"a";r:1;}`,
		`E:6:"Suit:H";`, `a:2:{i:0;`} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, in []byte) {
		out, err := Edit(in, upper)
		if err == nil && !Valid(out) {
			t.Fatalf("%q became %q, which is not valid", in, out)
		}
		if v, err := Parse(in); err == nil && !Valid(v.Marshal()) {
			t.Fatalf("%q was parsed and written as %q", in, v.Marshal())
		}
	})
}
