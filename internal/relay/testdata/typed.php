<?php function f(string $a) { return $a; }
