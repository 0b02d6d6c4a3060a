<?php
/*
 * Alibi reaches this site's database through this file while it works on the site. The file answers to nobody else,
 * only reads unless somebody confirmed a plan that writes, and is removed when that is done; it may be removed at any
 * time.
 */

$until = 0; // seconds since 1970, after which it removes itself
$key = '';
$writes = false; // whether it may change the database
$db = array('host' => '', 'port' => 0, 'socket' => '', 'user' => '', 'password' => '');

// What it says is in docs/formats/relay.md.

// Whoever asks a web server for a file of statements is shown nothing of it.
define('ALIBI_HEAD', "<?php exit; ?>\n");

error_reporting(0);
@ini_set('display_errors', '0');
@ini_set('zlib.output_compression', '0');
@ini_set('session.use_cookies', '0');
$notes = array(substr(__FILE__, 0, -4) . '.seen', sys_get_temp_dir() . '/' . basename(__FILE__, '.php') . '.seen');

/** Ends without a word about what this is. */
function alibi_refuse($status, $why)
{
    header('HTTP/1.1 ' . $status);
    header('Content-Type: text/plain');
    echo $why;
    exit;
}

/** Removes this file, the notes, and the statements that were left here to be run, where this account may. */
function alibi_end($notes)
{
    @unlink(__FILE__);
    foreach ($notes as $file) {
        foreach ((array) @scandir(dirname($file)) as $kept) {
            if (strpos((string) $kept, basename($file, '.seen') . '-') === 0) {
                @unlink(dirname($file) . '/' . $kept);
            }
        }
        @unlink($file);
    }
    if (strpos(basename(__DIR__), 'alibi-relay-') === 0) { // a folder of its own, in one that was to go, perhaps
        $top = (string) @file_get_contents(__DIR__ . '/goes');
        @unlink(__DIR__ . '/goes');
        for ($dir = __DIR__; @rmdir($dir) && $top !== '' && strpos($dir, $top . '/') === 0;) {
            $dir = dirname($dir);
        }
    }
}

/**
 * Tells whether a request is new, and from who asked first. The notes, beside this file or where that can not be in the
 * folder for temporary files, have the address, the highest number of a request, and a bit for each of the last 1024:
 * whether it was there.
 */
function alibi_fresh($notes, $number, $address)
{
    $f = false;
    foreach ($notes as $file) {
        $f = $f ? $f : @fopen($file, 'c+');
    }
    if (!$f || !flock($f, LOCK_EX)) {
        return 'its notes can not be written';
    }
    $was = explode(' ', trim((string) stream_get_contents($f)));
    if (count($was) !== 3) {
        $was = array($address, 0, str_repeat('00', 128));
    }
    $highest = (int) $was[1];
    $seen = pack('H*', $was[2]);
    $why = $was[0] !== $address ? 'elsewhere' : '';
    for ($n = max($highest + 1, $number - 1023); $n <= $number; $n++) { // those between are still to come
        alibi_bit($seen, $n, false);
    }
    if ($why === '' && ($number <= $highest - 1024 || alibi_bit($seen, $number, true))) {
        $why = 'replayed';
    }
    if ($why === '') {
        rewind($f);
        ftruncate($f, 0);
        list(, $hex) = unpack('H*', $seen);
        fwrite($f, $address . ' ' . max($highest, $number) . ' ' . $hex . "\n");
    }
    fflush($f);
    flock($f, LOCK_UN);
    fclose($f);
    return $why;
}

/** Sets the bit of a number, and tells what it was. */
function alibi_bit(&$bits, $number, $to)
{
    $at = ($number % 1024) >> 3;
    $bit = 1 << ($number % 8);
    $was = ord($bits[$at]);
    $bits[$at] = chr($to ? $was | $bit : $was & ~$bit & 255);
    return ($was & $bit) !== 0;
}

/** What is said goes out in parts, each of them added to the signature. */
class AlibiOut
{
    private $mac;
    private $text = '';

    public function __construct($key, $request)
    {
        $this->mac = hash_init('sha256', HASH_HMAC, $key);
        hash_update($this->mac, $request);
    }

    public function add($bytes)
    {
        $this->text .= $bytes;
        if (strlen($this->text) > 65536) {
            $this->flush();
        }
    }

    public function flush()
    {
        hash_update($this->mac, $this->text);
        echo $this->text;
        $this->text = '';
        flush();
    }

    public function end()
    {
        $this->flush();
        echo 'Z', hash_final($this->mac);
        exit;
    }

    public function fail($number, $why)
    {
        $this->add('E' . pack('NN', $number, strlen($why)) . $why);
        $this->end();
    }

    /** Says that it is still at work, for those who wait in between. */
    public function wait()
    {
        $this->add('W');
        $this->flush();
    }
}

/** What is read is digested only, to tell whether it is what it was. */
class AlibiSum
{
    private $sum;
    private $out;

    public function __construct($out)
    {
        $this->sum = hash_init('sha256');
        $this->out = $out;
    }

    public function add($part)
    {
        if ($part[0] === 'R') {
            hash_update($this->sum, $part);
        }
    }

    public function fail($number, $why)
    {
        $this->out->fail($number, $why);
    }

    public function sum()
    {
        return hash_final($this->sum);
    }
}

/** The database through the mysqli extension. */
class AlibiMysqli
{
    private $db;

    public function open($at, $name, $out)
    {
        mysqli_report(MYSQLI_REPORT_OFF);
        $this->db = mysqli_init();
        $socket = $at['socket'] === '' ? null : $at['socket'];
        if (!@$this->db->real_connect($at['host'], $at['user'], $at['password'], $name, $at['port'], $socket)) {
            $out->fail(mysqli_connect_errno(), (string) mysqli_connect_error());
        }
    }

    public function prepare($statement, $out)
    {
        if (!$this->db->query($statement)) {
            $out->fail($this->db->errno, $this->db->error);
        }
    }

    public function one($statement, $out)
    {
        $result = $this->db->query($statement);
        if (!$result) {
            $out->fail($this->db->errno, $this->db->error);
        }
        $row = $result->fetch_row();
        return $row[0];
    }

    public function run($statement, $out)
    {
        if (!$this->db->real_query($statement)) {
            $out->fail($this->db->errno, $this->db->error);
        }
        $result = $this->db->use_result();
        if (!$result) {
            if ($this->db->errno) {
                $out->fail($this->db->errno, $this->db->error);
            }
            $out->add('N' . pack('N', max(0, $this->db->affected_rows)));
            return;
        }
        $names = array();
        foreach ($result->fetch_fields() as $field) {
            $names[] = $field->name;
        }
        alibi_columns($names, $out);
        while ($row = $result->fetch_row()) {
            alibi_row($row, $out);
        }
        $result->free();
        if ($this->db->errno) {
            $out->fail($this->db->errno, $this->db->error);
        }
    }
}

/** The database through the pdo_mysql extension. */
class AlibiPdo
{
    private $db;

    public function open($at, $name, $out)
    {
        $dsn = 'mysql:charset=utf8mb4;' . ($name === '' ? '' : 'dbname=' . $name . ';');
        $dsn .= $at['socket'] !== '' ? 'unix_socket=' . $at['socket'] : 'host=' . $at['host'] . ';port=' . $at['port'];
        try {
            $this->db = new PDO($dsn, $at['user'], $at['password'], array(
                PDO::ATTR_ERRMODE => PDO::ERRMODE_EXCEPTION,
                PDO::ATTR_STRINGIFY_FETCHES => true,
                PDO::MYSQL_ATTR_USE_BUFFERED_QUERY => false,
            ));
        } catch (Exception $e) {
            $out->fail((int) $e->getCode(), $e->getMessage());
        }
    }

    public function prepare($statement, $out)
    {
        try {
            $this->db->exec($statement);
        } catch (Exception $e) {
            $this->fail($e, $out);
        }
    }

    public function one($statement, $out)
    {
        try {
            return $this->db->query($statement)->fetchColumn();
        } catch (Exception $e) {
            $this->fail($e, $out);
        }
    }

    public function run($statement, $out)
    {
        try {
            $result = $this->db->query($statement);
            if ($result->columnCount() === 0) {
                $out->add('N' . pack('N', $result->rowCount()));
                return;
            }
            $names = array();
            for ($i = 0; $i < $result->columnCount(); $i++) {
                $meta = $result->getColumnMeta($i);
                $names[] = $meta['name'];
            }
            alibi_columns($names, $out);
            while ($row = $result->fetch(PDO::FETCH_NUM)) {
                alibi_row($row, $out);
            }
            $result->closeCursor();
        } catch (Exception $e) {
            $this->fail($e, $out);
        }
    }

    private function fail($e, $out)
    {
        $info = isset($e->errorInfo) ? $e->errorInfo : array(0, 0, $e->getMessage());
        $out->fail((int) $info[1], (string) $info[2]);
    }
}

function alibi_columns($names, $out)
{
    $text = 'C' . pack('N', count($names));
    foreach ($names as $name) {
        $text .= pack('N', strlen($name)) . $name;
    }
    $out->add($text);
}

function alibi_row($row, $out)
{
    $text = 'R';
    foreach ($row as $value) {
        $text .= $value === null ? "\xff\xff\xff\xff" : pack('N', strlen($value)) . $value;
    }
    $out->add($text);
}

/** Takes apart what was put one after the other, each with its length before it. */
function alibi_parts($text)
{
    $parts = array();
    for ($i = 0; $i + 4 <= strlen($text); $i += 4 + $size) {
        list(, $size) = unpack('N', substr($text, $i, 4));
        $parts[] = (string) substr($text, $i + 4, $size);
    }
    return $parts;
}

/** Whether a statement changes nothing. */
function alibi_reads($statement)
{
    return preg_match('/^\s*(SELECT|SHOW|SET)\b/i', $statement)
        && !preg_match('/\bINTO\s+(OUT|DUMP)FILE\b/i', $statement);
}

if (time() > $until) {
    alibi_end($notes);
    alibi_refuse('404 Not Found', '');
}
$request = $_SERVER['REQUEST_METHOD'] === 'POST' ? (string) file_get_contents('php://input') : '';
$sign = substr($request, 0, 64);
$rest = (string) substr($request, 64);
if (strlen($sign) !== 64 || !hash_equals(hash_hmac('sha256', $rest, $key), $sign)) {
    alibi_refuse('404 Not Found', '');
}
$end = (int) strpos($rest, "\n");
list($at, $number) = explode(' ', substr($rest, 0, $end));
if (abs(time() - (int) $at) > 60) {
    alibi_refuse('403 Forbidden', 'late ' . time());
}
$why = alibi_fresh($notes, (int) $number, isset($_SERVER['REMOTE_ADDR']) ? $_SERVER['REMOTE_ADDR'] : '');
if ($why !== '') {
    alibi_refuse('403 Forbidden', $why);
}
$parts = alibi_parts((string) substr($rest, $end + 1));

header('Content-Type: application/octet-stream');
header('Cache-Control: no-store');
header('X-Accel-Buffering: no');
while (ob_get_level() > 0) {
    ob_end_clean();
}
$out = new AlibiOut($key, $sign);
$out->add('A1');
$name = array_shift($parts);
$last = end($parts);
$kept = '';
if ($last === 'END') {
    alibi_end($notes);
    $out->end();
} elseif ($last === 'KEEP' && !$writes) {
    $out->fail(1290, 'Alibi only reads through this file');
} elseif ($last === 'KEEP') {
    alibi_keep($notes, $parts[0], (int) $parts[1], $parts[2], $out);
    $out->end();
} elseif ($last === 'RUN') {
    $kept = alibi_kept($notes, $parts[0], $parts[1], $out);
}
// FILES
$database = extension_loaded('mysqli') ? new AlibiMysqli() : new AlibiPdo();
$database->open($db, $name, $out);
if (!$writes) {
    $database->prepare('SET SESSION TRANSACTION READ ONLY', $out);
}
$list = new AlibiStatements($parts, $kept);
$alone = false;
$said = time();
for ($now = $list->next(); $now !== null; $now = $then) {
    $then = $list->next();
    $sum = $now !== '' && $now[0] === '=' ? substr($now, 1, 64) : '';
    $now = $sum === '' ? $now : substr($now, 65);
    if (!alibi_reads($now) && !$writes) {
        $out->fail(1290, 'Alibi only reads through this file');
    }
    if (!alibi_reads($now) && !$alone) {
        $out->wait();
        alibi_alone($database, $name, $out);
        $alone = true;
    }
    if ($sum !== '') {
        $read = new AlibiSum($out);
        $database->run($now, $read);
        if (!hash_equals($read->sum(), $sum)) {
            $out->fail(1213, 'rows that were read have been changed meanwhile');
        }
    } elseif ($then === null) {
        if ($alone) {
            alibi_there($out);
        }
        $database->run($now, $out);
    } else {
        $database->prepare($now, $out);
    }
    if (time() > $said && $then !== null) {
        $out->wait();
        $said = time();
    }
}
if ($kept !== '') {
    @unlink($kept);
}
$out->end();
