<?php
function bySeeing(PDO $db, ?string $seeing): int {
    $text = 'update exposure set taken_at = now()';
    $values = [];
    if ($seeing !== null) {
        $text .= ' where quality > ?'; // finds every-row
        $values[] = $seeing;
    }
    $statement = $db->prepare($text);
    $statement->execute($values);
    return $statement->rowCount();
}

function byChoice(PDO $db, bool $late): int {
    return $db->exec('delete from exposure' . ($late ? ' where quality > 9' : '')); // finds every-row
}

function byList(PDO $db, bool $late): int {
    $conditions = ['true'];
    if ($late) {
        $conditions[] = 'quality > 9'; // finds every-row
    }
    return $db->exec('delete from exposure where ' . implode(' and ', $conditions));
}

function orElseEnds(PDO $db, ?string $filter): int {
    $text = 'delete from exposure';
    if ($filter === null) {
        throw new Exception('which ones?');
    } else {
        $text .= ' where quality > ?'; // sound every-row
    }
    $statement = $db->prepare($text);
    $statement->execute([$filter]);
    return $statement->rowCount();
}
