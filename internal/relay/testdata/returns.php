<?php function f($a): int { return $a; }
