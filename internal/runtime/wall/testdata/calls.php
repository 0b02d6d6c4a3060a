<?php
// Calls what a copy must and must not reach. PORT is replaced by one that is listened at outside.
function at($to, $say = '') { $c = @stream_socket_client($to, $no, $text, 3); if (!$c) { return "$to: $text"; }
	stream_set_timeout($c, 3); if ($say !== '') { fwrite($c, $say); } return "$to: " . trim(stream_get_contents($c)); }
$began = microtime(true);
foreach (array('tcp://127.0.0.1:PORT', 'tcp://localhost:PORT', 'tcp://192.0.2.7:443', 'tcp://[2001:db8::7]:443',
	'tcp://pay.example:443', 'tcp://api.example:443') as $to) { echo at($to), "\n"; }
fwrite(stream_socket_client('udp://192.0.2.9:5353'), 'x');
fwrite(stream_socket_client('udp://8.8.8.8:53'), 'x');
printf("refused within %s\n", microtime(true) - $began < 2 ? 'a moment' : 'ages');
echo at('tcp://api.example:PORT'), "\n", at('tcp://copy.alibi.localhost:8088'), "\n", at('tcp://127.0.0.1:8088'), "\n";
$c = stream_socket_client('tcp://mail.example:587');
foreach (array('', 'EHLO x', 'AUTH LOGIN', base64_encode('a'), base64_encode('b'), 'MAIL FROM:<a@x.example>', 'RCPT TO:<b@x.example>', 'DATA', "Subject: tide\r\n\r\nhigh\r\n.", 'QUIT') as $say) {
	if ($say !== '') { fwrite($c, "$say\r\n"); }
	do { $l = fgets($c); } while ($l !== false && substr($l, 3, 1) === '-');
	echo substr((string) $l, 0, 3), ' ';
}
echo "\n";
