<?php
// The worker "mails": it sends what the pages have put into the queue. Its file shows that it works.
require __DIR__ . '/../lib/ferry.php';

for (;;) {
    touch(__DIR__ . '/../tmp/mails');
    $next = seats()->brPop(['mails'], 2);
    if ($next) {
        send(...json_decode($next[1], true));
    }
}
