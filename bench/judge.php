<?php
// Judges a copy of a WordPress site without knowing how it was made:
//   judge.php ORIGIN_ROOT COPY_ROOT ORIGIN_URL COPY_URL [FROM_HOST=TO_HOST ...]
// Reads both databases by the sites' own configurations, takes every value
// apart (unserialize, json_decode, base64), exchanges addresses and paths by
// plain string replacement in what it finds, and compares deeply. Then the
// files. Prints each fault and a sum; exit 1 if there is one.
error_reporting(E_ALL & ~E_DEPRECATED & ~E_NOTICE & ~E_WARNING);
ini_set('memory_limit', '4G');
list(, $fromRoot, $toRoot, $fromURL, $toURL) = $argv;
$faults = 0;
$checked = 0;

function fault($what) {
	global $faults;
	if ($faults++ < 40) {
		echo "FAULT $what\n";
	}
}

// constants of a configuration, by the tokens of PHP itself
function config($root) {
	$out = array();
	$t = array_values(array_filter(token_get_all(file_get_contents("$root/wp-config.php")), function ($x) {
		return !is_array($x) || !in_array($x[0], array(T_WHITESPACE, T_COMMENT, T_DOC_COMMENT), true);
	}));
	for ($i = 0; $i < count($t); $i++) {
		if (is_array($t[$i]) && $t[$i][0] === T_STRING && strtolower($t[$i][1]) === 'define' && is_array($t[$i + 4])) {
			$out[eval('return ' . $t[$i + 2][1] . ';')] = $t[$i + 4][0] === T_CONSTANT_ENCAPSED_STRING ? eval('return ' . $t[$i + 4][1] . ';') : $t[$i + 4][1];
		}
		if (is_array($t[$i]) && $t[$i][1] === '$table_prefix' && is_array($t[$i + 2])) {
			$out['prefix'] = eval('return ' . $t[$i + 2][1] . ';');
		}
	}
	return $out;
}

function connect($c) {
	$host = $c['DB_HOST'];
	$socket = null;
	$port = null;
	if (strpos($host, ':/') !== false) {
		list($host, $socket) = explode(':', $host, 2);
	} elseif (strpos($host, ':') !== false) {
		list($host, $port) = explode(':', $host, 2);
	}
	$db = mysqli_connect($host, $c['DB_USER'], $c['DB_PASSWORD'], $c['DB_NAME'], $port === null ? null : (int) $port, $socket);
	mysqli_query($db, 'SET NAMES utf8mb4');
	mysqli_query($db, 'SET character_set_results = NULL');
	return $db;
}

$a = config($fromRoot);
$b = config($toRoot);
$da = connect($a);
$db = connect($b);
$fromHost = parse_url($fromURL, PHP_URL_HOST);
$fromPort = parse_url($fromURL, PHP_URL_PORT); // of a copy that was copied
$toHost = parse_url($toURL, PHP_URL_HOST) . (parse_url($toURL, PHP_URL_PORT) ? ':' . parse_url($toURL, PHP_URL_PORT) : '');
$scheme = parse_url($toURL, PHP_URL_SCHEME);
$hosts = array();
foreach (array_slice($argv, 5) as $pair) {
	list($x, $y) = explode('=', $pair, 2);
	$hosts[$x] = $y;
}
$hosts['www.' . $fromHost] = $toHost;
$hosts[$fromHost] = $toHost;

// exchange does the addresses of a plain text, and those that stand in it in
// JSON's or the URL's own encoding.
function exchange($s) {
	global $hosts, $scheme, $fromRoot, $toRoot, $fromPort;
	$ports = '443|80' . ($fromPort ? "|$fromPort" : '');
	foreach ($hosts as $from => $to) {
		$q = preg_quote($from, '~');
		$end = '(?![A-Za-z0-9_-]|\.[A-Za-z0-9])';
		$enc = rawurlencode($to);
		$s = preg_replace("~https?(%3A%2F%2F)$q(?:(?::|%3A)(?:$ports))?$end~i", $scheme . '${1}' . $enc, $s);
		$s = preg_replace('~https?(:(?:\\\\*/){2})' . $q . "(?::(?:$ports))?$end~i", $scheme . '${1}' . $to, $s);
		$s = preg_replace("~(?<![A-Za-z0-9@._-])(?<!%40)$q" . ($fromPort ? "(?::$fromPort)?" : '') . "$end~i", $to, $s);
	}
	$q = preg_quote($fromRoot, '~');
	return preg_replace("~(?<![A-Za-z0-9/_.-])$q(?![A-Za-z0-9_.-])~", $toRoot, $s);
}

// same compares two values by their meaning.
function same($x, $y, $depth = 0) {
	if (is_string($x) && is_string($y)) {
		if ($x === $y && stripos($x, $GLOBALS['fromHost']) === false && stripos(base64_decode($x), $GLOBALS['fromHost']) === false) {
			return true;
		}
		if ($depth < 12) {
			$ux = @unserialize($x);
			if ($ux !== false || $x === 'b:0;') {
				$uy = @unserialize($y);
				return ($uy !== false || $y === 'b:0;') && same($ux, $uy, $depth + 1);
			}
			if ($x !== '' && ($x[0] === '{' || $x[0] === '[')) {
				$jx = json_decode($x);
				if ($jx !== null) {
					$jy = json_decode($y);
					return $jy !== null && same($jx, $jy, $depth + 1);
				}
			}
			$bx = base64_decode($x, true);
			if ($bx !== false && strlen($x) >= 16 && base64_encode($bx) === $x && @unserialize($bx) !== false) {
				$by = base64_decode($y, true);
				return $by !== false && same($bx, $by, $depth + 1);
			}
		}
		return exchange($x) === $y;
	}
	if (is_object($x) && is_object($y)) {
		return get_class($x) === get_class($y) && same((array) $x, (array) $y, $depth + 1);
	}
	if (is_array($x) && is_array($y)) {
		if (count($x) !== count($y)) {
			return false;
		}
		$ky = array_keys($y);
		$n = 0;
		foreach ($x as $k => $v) {
			$k2 = $ky[$n++];
			if ($k !== $k2 && exchange((string) $k) !== (string) $k2 || !same($v, $y[$k2], $depth + 1)) {
				return false;
			}
		}
		return true;
	}
	return $x === $y || is_float($x) && is_float($y) && is_nan($x) && is_nan($y);
}

function tables($db, $name) {
	$out = array();
	foreach (mysqli_query($db, "SELECT TABLE_NAME AS n FROM information_schema.TABLES WHERE TABLE_SCHEMA = '$name' AND TABLE_TYPE = 'BASE TABLE'") as $r) {
		$out[] = $r['n'];
	}
	sort($out);
	return $out;
}

function shape($db, $t) {
	$r = mysqli_fetch_row(mysqli_query($db, "SHOW CREATE TABLE `$t`"));
	return preg_replace('/ AUTO_INCREMENT=\d+/', '', $r[1]);
}

// the number that the next row gets; 0 if none
function next_number($db, $t) {
	$r = mysqli_fetch_row(mysqli_query($db, "SHOW CREATE TABLE `$t`"));
	return preg_match('/ AUTO_INCREMENT=(\d+)/', $r[1], $m) ? (int) $m[1] : 0;
}

// views and triggers, by name, as the server writes them, without who made them and where they stand
function objects($db, $name) {
	$out = array();
	$clean = function ($sql) use ($name) {
		return str_replace("`$name`.", '', preg_replace('/ DEFINER=`[^`]*`@`[^`]*`/', '', $sql));
	};
	foreach (mysqli_query($db, "SELECT TABLE_NAME AS n FROM information_schema.VIEWS WHERE TABLE_SCHEMA = '$name'") as $r) {
		$v = mysqli_fetch_assoc(mysqli_query($db, "SHOW CREATE VIEW `{$r['n']}`"));
		$out['view ' . $r['n']] = $clean($v['Create View']);
	}
	foreach (mysqli_query($db, "SELECT TRIGGER_NAME AS n FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = '$name'") as $r) {
		$v = mysqli_fetch_assoc(mysqli_query($db, "SHOW CREATE TRIGGER `{$r['n']}`"));
		$out['trigger ' . $r['n']] = $clean($v['SQL Original Statement']);
	}
	ksort($out);
	return $out;
}

// What the CMS keeps for a while and makes anew when somebody visits.
function passing($row) {
	return isset($row['option_name']) && preg_match('/^_(site_)?transient_/', $row['option_name']);
}

// What a copy means to change: the title, the wish not to be indexed, whom it tells.
$meant = array('blogname', 'blog_public', 'ping_sites', 'rewrite_rules');

$ta = tables($da, $a['DB_NAME']);
$tb = array_flip(tables($db, $b['DB_NAME']));
foreach ($ta as $t) {
	$u = $a['prefix'] === $b['prefix'] ? $t : (strpos($t, $a['prefix']) === 0 ? $b['prefix'] . substr($t, strlen($a['prefix'])) : $t);
	if (!isset($tb[$u])) {
		fault("table $t is missing");
		continue;
	}
	unset($tb[$u]);
	if (str_replace($t, $u, shape($da, $t)) !== shape($db, $u)) {
		fault("table $t has another shape");
	}
	if (next_number($db, $u) < next_number($da, $t)) {
		fault("table $t gives a lower number to its next row");
	}
	$keys = array();
	foreach (mysqli_query($da, "SHOW INDEX FROM `$t` WHERE Key_name = 'PRIMARY'") as $r) {
		$keys[] = '`' . $r['Column_name'] . '`';
	}
	$cols = array();
	foreach (mysqli_query($da, "SHOW COLUMNS FROM `$t`") as $r) {
		$cols[] = $r['Field'];
	}
	$order = $keys ? implode(',', $keys) : implode(',', array_map(function ($c) { return "BINARY `$c`"; }, $cols));
	$ra = mysqli_query($da, "SELECT * FROM `$t` ORDER BY $order", MYSQLI_USE_RESULT);
	$rb = mysqli_query($db, "SELECT * FROM `$u` ORDER BY $order", MYSQLI_USE_RESULT);
	while (true) {
		do {
			$x = mysqli_fetch_assoc($ra);
		} while ($x && passing($x));
		do {
			$y = mysqli_fetch_assoc($rb);
		} while ($y && passing($y));
		if (!$x || !$y) {
			if ($x || $y) {
				fault("table $t has " . ($x ? 'fewer' : 'more') . ' rows');
			}
			break;
		}
		$checked++;
		foreach ($x as $c => $v) {
			if ($v === $y[$c] && ($v === null || stripos($v, $fromHost) === false && strlen($v) < 16)) {
				continue;
			}
			if (isset($x['option_name']) && in_array($x['option_name'], $meant, true) && $c === 'option_value') {
				continue;
			}
			if ($v === null || $y[$c] === null ? $v !== $y[$c] : !same($v, $y[$c])) {
				// A value that PHP itself can't read on the origin must be as it was.
				if (!(preg_match('/^[aOsib]:/', (string) $v) && @unserialize($v) === false && $v === $y[$c])) {
					fault("$t, " . json_encode(array_slice($x, 0, 2), JSON_PARTIAL_OUTPUT_ON_ERROR) . ", $c: " . substr((string) $v, 0, 120) . ' => ' . substr((string) $y[$c], 0, 120));
				}
			}
		}
	}
	mysqli_free_result($ra);
	mysqli_free_result($rb);
}
foreach ($tb as $u => $_) {
	fault("table $u is not the origin's");
}
if ($a['DB_NAME'] !== $b['DB_NAME']) { // beside the origin's tables there are only tables
	$oa = objects($da, $a['DB_NAME']);
	$ob = objects($db, $b['DB_NAME']);
	foreach ($oa as $what => $sql) {
		if (!isset($ob[$what])) {
			fault("$what is missing");
		} elseif ($ob[$what] !== $sql) {
			fault("$what is defined otherwise");
		}
	}
	foreach ($ob as $what => $_) {
		if (!isset($oa[$what])) {
			fault("$what is not the origin's");
		}
	}
}

// Files: byte for byte, but for the configuration and Alibi's own.
$skip = array('wp-config.php' => 1, 'wp-content/mu-plugins/alibi-quiet.php' => 1);
function files($root) {
	$out = array();
	foreach (new RecursiveIteratorIterator(new RecursiveDirectoryIterator($root, FilesystemIterator::SKIP_DOTS), RecursiveIteratorIterator::SELF_FIRST) as $f) {
		$out[substr($f->getPathname(), strlen($root) + 1)] = true;
	}
	return $out;
}
$fa = files($fromRoot);
$fb = files($toRoot);
$compared = 0;
$owner = fileowner($toRoot);
foreach ($fa as $f => $_) {
	if (isset($skip[$f])) {
		continue;
	}
	if (!isset($fb[$f])) {
		fault("file $f is missing");
		continue;
	}
	if (is_link("$fromRoot/$f") !== is_link("$toRoot/$f") || is_dir("$fromRoot/$f") !== is_dir("$toRoot/$f")) {
		fault("file $f is of another kind");
		continue;
	}
	if (fileowner("$toRoot/$f") !== $owner && !is_link("$toRoot/$f")) {
		fault("file $f belongs to another account than the copy");
	}
	if (is_link("$fromRoot/$f")) {
		continue;
	}
	$was = fileperms("$fromRoot/$f") & 0777;
	if (is_dir("$fromRoot/$f")) {
		$was |= 0700; // we may always work in folders of our own
	}
	if ((fileperms("$toRoot/$f") & 0777) !== $was) {
		fault("file $f has another mode");
	}
	if (is_dir("$fromRoot/$f")) {
		continue;
	}
	if (filesize("$fromRoot/$f") !== filesize("$toRoot/$f") || hash_file('md5', "$fromRoot/$f") !== hash_file('md5', "$toRoot/$f")) {
		fault("file $f differs");
	}
	$compared++;
}
foreach ($fb as $f => $_) {
	if (!isset($fa[$f]) && !isset($skip[$f]) && !is_dir("$toRoot/$f")) {
		fault("file $f is not the origin's");
	}
}
echo "$checked rows and $compared files judged, $faults faults\n";
exit($faults ? 1 : 0);
