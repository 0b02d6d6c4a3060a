<?php

// What writes, and what is brought before it is run.

/** The names that a file of statements may have. */
function alibi_names($notes, $id)
{
    $names = array();
    foreach ($notes as $file) {
        $names[] = substr($file, 0, -5) . '-' . (int) $id . '.php';
    }
    return $names;
}

/** Keeps statements that are too long for one request, piece by piece, to be run as one. */
function alibi_keep($notes, $id, $at, $piece, $out)
{
    foreach (alibi_names($notes, $id) as $file) {
        $f = @fopen($file, 'c+');
        if (!$f) {
            continue;
        }
        @chmod($file, 0600);
        fseek($f, 0, SEEK_END);
        if (ftell($f) === 0) {
            fwrite($f, ALIBI_HEAD);
        }
        if (ftell($f) - strlen(ALIBI_HEAD) !== $at || fwrite($f, $piece) !== strlen($piece) || !fclose($f)) {
            $out->fail(1021, 'the host does not keep what is to be run: its disk may be full');
        }
        return;
    }
    $out->fail(1105, 'what is to be run can not be kept on the host');
}

/** Gives the file of what was kept, if it is what it should be. */
function alibi_kept($notes, $id, $sum, $out)
{
    foreach (alibi_names($notes, $id) as $kept) {
        if (is_file($kept) && hash_equals($sum, (string) hash_file('sha256', $kept))) {
            return $kept;
        }
    }
    $out->fail(1105, 'what was to be run is not on the host any more, or not whole');
}

/** Gives statement after statement: those of the request, or those that were kept in a file. */
class AlibiStatements
{
    private $list;
    private $file;

    public function __construct($list, $kept)
    {
        $this->list = $list;
        $this->file = $kept === '' ? null : fopen($kept, 'r');
        if ($this->file) {
            fseek($this->file, strlen(ALIBI_HEAD));
        }
    }

    /** The next one; null after the last. */
    public function next()
    {
        if (!$this->file) {
            return array_shift($this->list);
        }
        $head = fread($this->file, 4);
        if (strlen($head) < 4) {
            return null;
        }
        list(, $size) = unpack('N', $head);
        return $size === 0 ? '' : stream_get_contents($this->file, $size);
    }
}

/** What somebody removed writes nothing any more. */
function alibi_there($out)
{
    clearstatcache();
    if (!is_file(__FILE__)) {
        $out->fail(1105, 'this file was removed meanwhile');
    }
}

/** Waits until no other request writes to the database: one whose sender is gone may still be at work. */
function alibi_alone($database, $name, $out)
{
    if ((int) $database->one("SELECT GET_LOCK('alibi " . md5($name) . "', 40)", $out) !== 1) {
        $out->fail(1205, 'another request is still writing');
    }
    alibi_there($out);
}
