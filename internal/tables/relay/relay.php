<?php
/*
 * Alibi reads this site's database through this file while it copies the site or compares a copy with it. The file
 * answers to nobody else, changes nothing, and is removed when that is done; it may be removed at any time.
 */

$until = 0; // seconds since 1970, after which it removes itself
$key = '';
$db = array('host' => '', 'port' => 0, 'socket' => '', 'user' => '', 'password' => '');

// What it says is in docs/formats/relay.md.

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

/** Removes the notes and this file, where this account may. */
function alibi_end($notes)
{
    foreach ($notes as $file) {
        @unlink($file);
    }
    @unlink(__FILE__);
}

/**
 * Tells whether a request is new, and from who asked first. The notes, beside this file or where that can not be in the
 * folder for temporary files, have the address, the highest number of a request, and which of the 31 before it were
 * there.
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
    $why = '';
    $was = explode(' ', trim((string) stream_get_contents($f)));
    if (count($was) !== 3) {
        $was = array($address, 0, 0);
    }
    $highest = (int) $was[1];
    $bits = (int) $was[2];
    if ($was[0] !== $address) {
        $why = 'elsewhere';
    } elseif ($number > $highest) {
        $by = $number - $highest;
        $bits = $by > 31 ? 0 : ((($bits << 1) | 1) << ($by - 1)) & 0x7fffffff;
        $highest = $number;
    } else {
        $bit = $highest - $number - 1;
        if ($bit < 0 || $bit > 30 || ($bits >> $bit) & 1) {
            $why = 'replayed';
        }
        $bits |= $bit >= 0 && $bit <= 30 ? 1 << $bit : 0;
    }
    if ($why === '') {
        rewind($f);
        ftruncate($f, 0);
        fwrite($f, $address . ' ' . $highest . ' ' . $bits . "\n");
    }
    fflush($f);
    flock($f, LOCK_UN);
    fclose($f);
    return $why;
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

    public function run($statement, $out)
    {
        try {
            $result = $this->db->query($statement);
            $names = array();
            for ($i = 0; $i < $result->columnCount(); $i++) {
                $meta = $result->getColumnMeta($i);
                $names[] = $meta['name'];
            }
            alibi_columns($names, $out);
            while ($row = $result->fetch(PDO::FETCH_NUM)) {
                alibi_row($row, $out);
            }
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
$parts = array();
for ($i = $end + 1; $i + 4 <= strlen($rest); $i += 4 + $size) {
    list(, $size) = unpack('N', substr($rest, $i, 4));
    $parts[] = (string) substr($rest, $i + 4, $size);
}

header('Content-Type: application/octet-stream');
header('Cache-Control: no-store');
header('X-Accel-Buffering: no');
while (ob_get_level() > 0) {
    ob_end_clean();
}
$out = new AlibiOut($key, $sign);
$out->add('A1');
$name = array_shift($parts);
$last = array_pop($parts);
if ($last === 'END') {
    alibi_end($notes);
    $out->end();
}
if (!preg_match('/^\s*(SELECT|SHOW|SET)\b/i', $last) || preg_match('/\bINTO\s+(OUT|DUMP)FILE\b/i', $last)) {
    $out->fail(1290, 'Alibi only reads through this file');
}
$reader = extension_loaded('mysqli') ? new AlibiMysqli() : new AlibiPdo();
$reader->open($db, $name, $out);
$reader->prepare('SET SESSION TRANSACTION READ ONLY', $out);
foreach ($parts as $statement) {
    $reader->prepare($statement, $out);
}
$reader->run($last, $out);
$out->end();
