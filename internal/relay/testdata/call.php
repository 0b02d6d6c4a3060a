<?php echo max(1, 2,);
