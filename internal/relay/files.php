
// What is asked of files: what to do, an absolute folder, a name below it, and more. Nothing leads out of the folder.

/** Ends with a number of errno(3). */
function alibi_no($out, $path, $number = 0)
{
    $text = $GLOBALS['alibi_said'];
    foreach (array('No such file' => 2, 'denied' => 13, 'not permitted' => 1, 'File exists' => 17, 'not empty' => 39,
        'No space' => 28, 'quota' => 122, 'Not a directory' => 20, 'Is a directory' => 21) as $part => $is) {
        if ($number === 0 && stripos($text, $part) !== false) {
            $number = $is;
        }
    }
    if ($number === 0) {
        $number = file_exists($path) || is_link($path) ? 13 : 2;
    }
    $out->fail($number, $text);
}

/** The path of a name below a folder; no folder on the way may be a link. */
function alibi_path($root, $name, $out)
{
    if ($name === '.') {
        return $root;
    }
    $path = rtrim($root, '/');
    $steps = explode('/', $name);
    foreach ($steps as $i => $step) {
        if ($step === '' || $step === '.' || $step === '..') {
            alibi_no($out, $path, 40);
        }
        $path .= '/' . $step;
        if ($i < count($steps) - 1 && is_link($path)) {
            alibi_no($out, $path, 40);
        }
    }
    return $path;
}

/** A row about a file: name, mode and kind, size, time, owner, group, and what a link says. */
function alibi_about($path, $out)
{
    $s = @lstat($path);
    if (!$s) {
        alibi_no($out, $path);
    }
    $link = ($s['mode'] & 0170000) === 0120000 ? (string) readlink($path) : '';
    alibi_row(array((string) substr($path, strrpos($path, '/') + 1), $s['mode'], $s['size'], $s['mtime'],
        $s['uid'], $s['gid'], $link), $out);
}

/** Removes a file, a link, or a folder and all in it; the folder of this file, and those around it, when it ends. */
function alibi_all($path)
{
    if (realpath($path) === __DIR__) {
        return true;
    }
    if (is_dir($path) && !is_link($path)) {
        foreach ((array) @scandir($path) as $name) {
            if ($name !== '.' && $name !== '..' && !alibi_all($path . '/' . $name)) {
                return false;
            }
        }
        $around = strpos(__DIR__ . '/', realpath($path) . '/') === 0;
        return $around ? file_put_contents(__DIR__ . '/goes', realpath($path)) !== false : @rmdir($path);
    }
    return @unlink($path) || !(file_exists($path) || is_link($path));
}

/** Writes bytes at a place of a file that is there. */
function alibi_at($path, $at, $bytes)
{
    $f = @fopen($path, 'r+');
    return $f && fseek($f, $at) === 0 && fwrite($f, $bytes) === strlen($bytes) && fclose($f);
}

/** What only reads. */
function alibi_look($what, $path, $parts, $out)
{
    if ($what === 'about') {
        alibi_columns(range(1, 7), $out);
        alibi_about($path, $out);
    } elseif ($what === 'list') {
        $names = is_link($path) ? false : @scandir($path);
        if ($names === false) {
            alibi_no($out, $path, is_link($path) ? 40 : (is_file($path) ? 20 : 0));
        }
        alibi_columns(range(1, 7), $out);
        foreach ($names as $name) {
            if ($name !== '.' && $name !== '..' && ($s = @lstat($path . '/' . $name))) {
                alibi_about($path . '/' . $name, $out);
            }
        }
    } elseif ($what === 'read') {
        $inside = rtrim((string) realpath($parts[1]), '/') . '/';
        if (is_link($path) && strpos((string) realpath($path), $inside) !== 0) {
            alibi_no($out, $path, file_exists($path) ? 40 : 2);
        }
        $f = is_dir($path) ? false : @fopen($path, 'rb');
        if (!$f || fseek($f, (int) $parts[3]) !== 0) {
            alibi_no($out, $path, is_dir($path) ? 21 : 0);
        }
        alibi_columns(array('bytes'), $out);
        for ($left = (int) $parts[4]; $left > 0 && !feof($f); $left -= strlen($bytes)) {
            $bytes = fread($f, min($left, 65536));
            if ($bytes === false) {
                alibi_no($out, $path);
            }
            if ($bytes !== '') {
                alibi_row(array($bytes), $out);
            }
        }
    } elseif ($what === 'free') {
        $room = @disk_free_space($path);
        if ($room === false) {
            alibi_no($out, $path);
        }
        alibi_columns(array('bytes'), $out);
        alibi_row(array(sprintf('%.0f', $room)), $out);
    } elseif ($what === 'shown') { // the folder that is shown at the address
        $file = (string) $_SERVER['SCRIPT_FILENAME'];
        $name = (string) $_SERVER['SCRIPT_NAME'];
        $top = substr($file, -strlen($name)) === $name ? substr($file, 0, -strlen($name)) : $_SERVER['DOCUMENT_ROOT'];
        alibi_columns(array('folder'), $out);
        alibi_row(array((string) realpath($top . '/')), $out);
    } else {
        return false;
    }
    return true;
}

/** What changes something. */
function alibi_change($what, $path, $parts, $out)
{
    $more = isset($parts[3]) ? $parts[3] : '';
    if ($what === 'make') { // perm, bytes, time
        umask(077);
        $f = @fopen($path, $parts[6] === 'new' ? 'x' : 'w');
        $done = $f && fwrite($f, $parts[4]) === strlen($parts[4]) && fclose($f) && chmod($path, (int) $more)
            && ($parts[5] === '' || touch($path, (int) $parts[5]));
    } elseif ($what === 'more') {
        $done = alibi_at($path, (int) $more, $parts[4]);
    } elseif ($what === 'mkdir') {
        $done = @mkdir($path, 0700) && chmod($path, (int) $more);
    } elseif ($what === 'symlink') {
        $done = @symlink($more, $path);
    } elseif ($what === 'rename') {
        $done = @rename($path, alibi_path($parts[1], $more, $out));
    } elseif ($what === 'remove') {
        $done = is_dir($path) && !is_link($path) ? @rmdir($path) : @unlink($path);
    } elseif ($what === 'all') {
        $done = alibi_all($path);
    } elseif ($what === 'beside') { // another file of ours, that was left
        $done = strpos($more, 'alibi-relay-') === 0 && alibi_all(dirname(__DIR__) . '/' . basename($more));
    } elseif ($what === 'mode' || $what === 'time') {
        if (is_link($path)) {
            alibi_no($out, $path, 40);
        }
        $done = $what === 'mode' ? @chmod($path, (int) $more) : file_exists($path) && @touch($path, (int) $more);
    } else {
        $out->fail(38, 'it does not know how to ' . $what);
    }
    if (!$done) {
        alibi_no($out, $path);
    }
}

$alibi_said = ''; // the last error

function alibi_said($number, $text)
{
    $GLOBALS['alibi_said'] = $text;
    return true;
}

function alibi_file($parts, $out)
{
    set_error_handler('alibi_said');
    clearstatcache();
    $path = alibi_path($parts[1], $parts[2], $out);
    if (!alibi_look($parts[0], $path, $parts, $out)) {
        alibi_change($parts[0], $path, $parts, $out);
    }
}
