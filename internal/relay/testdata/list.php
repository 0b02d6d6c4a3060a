<?php foreach (array(array(1, 2)) as [$a, $b]) { echo $a; }
