<?php
// Written by Alibi: carries connections, from each address that is listened at to the one that follows it.
// Runs under PHP 7.0 and later. With ALIBI_ACCOUNT in the environment it carries a database's, for that account alone.

/** What is said on one connection to a database server (https://mariadb.com/kb/en/clientserver-protocol/). */
final class Said {
	private $greeted = false;
	private $named = false;
	private $early = array( 'server' => '', 'client' => '' );
	private $left = 0; // bytes of a packet that is under way
	public $refusal = '';

	/** A whole packet at the beginning, and what follows it; null as long as it is not there. */
	private function first($side, $b) {
		$this->early[$side] .= $b;
		$b = $this->early[$side];
		if (strlen($b) < 4) {
			return null;
		}
		$n = 4 + unpack('V', substr($b, 0, 3) . "\0")[1];
		return strlen($b) < $n || $n > 65536 ? ($n > 65536 ? array('', '') : null) : array(substr($b, 0, $n), (string) substr($b, $n));
	}

	public function server($b) {
		if ($this->greeted) {
			return $b;
		}
		$p = $this->first('server', $b);
		if ($p === null) {
			return '';
		}
		$this->greeted = true;
		$end = strpos($p[0], "\0", 5);
		$at = $end + 1 + 4 + 8 + 1;
		if ($p[0] !== '' && ord($p[0][4]) === 10 && $end && strlen($p[0]) > $at + 7) { // no TLS, no compression
			$p[0] = substr_replace($p[0], pack('v', unpack('v', substr($p[0], $at, 2))[1] & ~0x820), $at, 2);
			$p[0] = substr_replace($p[0], pack('v', unpack('v', substr($p[0], $at + 5, 2))[1] & ~0x400), $at + 5, 2);
		}
		return $p[0] . $p[1];
	}

	private function refuse($number, $account) {
		$text = "\xff" . pack('v', 1045) . '#28000' . "Access denied for user '$account': the copy's wall lets in its own account alone";
		$this->refusal = substr(pack('V', strlen($text)), 0, 3) . chr($number) . $text;
		return '';
	}

	public function client($b) {
		$out = '';
		if (!$this->named) {
			$p = $this->first('client', $b);
			if ($p === null) {
				return '';
			}
			$this->named = true;
			$can = strlen($p[0]) > 36 ? unpack('V', substr($p[0], 4, 4))[1] : 0;
			$account = $can & 0x200 && !($can & 0x820) ? strstr(substr($p[0], 36), "\0", true) : false;
			if ($account !== getenv('ALIBI_ACCOUNT')) {
				return $this->refuse($p[0] === '' ? 1 : ord($p[0][3]) + 1, (string) $account);
			}
			list($out, $b) = $p;
			$this->early['client'] = '';
		}
		$b = $this->early['client'] . $b;
		$this->early['client'] = '';
		while ($b !== '') {
			if ($this->left > 0) {
				$n = min($this->left, strlen($b));
				$out .= substr($b, 0, $n);
				$b = (string) substr($b, $n);
				$this->left -= $n;
				continue;
			}
			$n = strlen($b) < 4 ? 0 : unpack('V', substr($b, 0, 3) . "\0")[1];
			if (strlen($b) < 4 || ($n > 0 && strlen($b) < 5)) {
				$this->early['client'] = $b;
				break;
			}
			if ($n > 0 && ord($b[3]) === 0 && ord($b[4]) === 0x11) { // a change of the account
				return $this->refuse(1, 'another');
			}
			$this->left = 4 + $n;
		}
		return $out;
	}
}

$account = getenv('ALIBI_ACCOUNT');
$says = array(); // of a database's connections: what is said on each, and on which side
$from = array();
for ($i = 1; $i + 1 < $argc; $i += 2) {
	for ($try = 0; $try < 500 && !($there = @stream_socket_client($argv[$i + 1], $no, $text, 1)); $try++) {
		usleep(20000); // who takes them is being started
	}
	// a socket gets its name once it is listened at: who sees the name can connect
	$name = strpos($argv[$i], 'unix://') === 0 ? substr($argv[$i], 7) : '';
	if ($name !== '') {
		@unlink("$name.new");
	}
	if ($there) {
		fclose($there);
	}
	$s = stream_socket_server($name === '' ? $argv[$i] : "unix://$name.new", $no, $text);
	if (!$s || ($name !== '' && !rename("$name.new", $name))) {
		fwrite(STDERR, "carrying from {$argv[$i]}: $text\n");
		exit(1);
	}
	stream_set_blocking($s, false);
	$from[(int) $s] = array($s, $argv[$i + 1]);
}
$with = array(); // the other end of each connection
$held = array(); // what each is still to be sent
$over = array(); // those that get nothing more once that is sent
$end = function ($c) use (&$with, &$held, &$over, &$says) {
	foreach (array($c, $with[(int) $c]) as $x) {
		$key = (int) $x;
		unset($with[$key], $held[$key], $over[$key], $says[$key]);
		fclose($x);
	}
};
$all = array();
while (true) {
	$read = $write = $none = array();
	foreach ($from as $f) {
		$read[] = $f[0];
	}
	foreach ($with as $key => $other) {
		$c = $all[$key];
		if (strlen($held[(int) $other]) < 262144 && !isset($over[(int) $other])) {
			$read[] = $c;
		}
		if ($held[$key] !== '') {
			$write[] = $c;
		}
	}
	if (@stream_select($read, $write, $none, 3600) === false) {
		continue;
	}
	foreach ($write as $c) {
		$key = (int) $c;
		if (!isset($with[$key])) {
			continue;
		}
		$n = @fwrite($c, $held[$key]);
		if ($n === false) {
			$end($c);
			continue;
		}
		$held[$key] = (string) substr($held[$key], $n);
		if ($held[$key] === '' && isset($over[$key])) {
			@stream_socket_shutdown($c, STREAM_SHUT_WR);
			if (isset($over[(int) $with[$key]])) {
				$end($c);
			}
		}
	}
	foreach ($read as $c) {
		$key = (int) $c;
		if (isset($from[$key])) {
			$in = @stream_socket_accept($c, 0);
			if (!$in) {
				continue;
			}
			$out = @stream_socket_client($from[$key][1], $no, $text, 10);
			if (!$out) {
				fclose($in);
				continue;
			}
			foreach (array(array($in, $out), array($out, $in)) as $p) {
				stream_set_blocking($p[0], false);
				stream_set_write_buffer($p[0], 0);
				$all[(int) $p[0]] = $p[0];
				$with[(int) $p[0]] = $p[1];
				$held[(int) $p[0]] = '';
			}
			if ($account !== false) {
				$said = new Said();
				$says[(int) $in] = array($said, 'client');
				$says[(int) $out] = array($said, 'server');
			}
			continue;
		}
		if (!isset($with[$key])) {
			continue;
		}
		$other = $with[$key];
		$b = @fread($c, 65536);
		if ($b !== false && $b !== '') {
			if (isset($says[$key])) {
				list($said, $side) = $says[$key];
				$b = $said->$side($b);
				if ($said->refusal !== '') {
					@fwrite($c, $said->refusal);
					$end($c);
					continue;
				}
			}
			$held[(int) $other] .= $b;
		} elseif (feof($c)) {
			$over[(int) $other] = true;
			if ($held[(int) $other] === '') {
				@stream_socket_shutdown($other, STREAM_SHUT_WR);
				if (isset($over[$key])) {
					$end($c);
				}
			}
		}
	}
}
