<?php

/**
 * Changes one record, where it is still at the version it was loaded with.
 *
 * The statement is what this shows, pasted:
 *
 *     ledgerman change programme P-107 hoursLeft=14.50 --statement --style question
 *
 * What it says around the statement is done here by hand: the guard is one more condition, and the count is looked at.
 * Usage: change.php CODE HOURS VERSION, with DATABASE_URL set.
 */

declare(strict_types=1);

const STATEMENT = <<<'SQL'
update public.programme
set hours_left = ?, row_version = row_version + 1
where code = ?
SQL;

function change(PDO $database, string $code, string $hoursLeft, int $version): string
{
    $database->beginTransaction();
    try {
        $database->exec("set local lock_timeout = '2s'; set local statement_timeout = '10s'");
        $statement = $database->prepare(STATEMENT . "\nand row_version = ?");
        $statement->execute([$hoursLeft, $code, $version]);
        $isChanged = $statement->rowCount() === 1;
        $look = $database->prepare('select row_version, hours_left from public.programme where code = ?');
        $look->execute([$code]);
        $row = $look->fetch(PDO::FETCH_ASSOC);
        $database->commit();
    } catch (Throwable $error) {
        $database->rollBack();
        throw $error;
    }
    if ($isChanged) {
        return 'changed: version ' . ($version + 1);
    }
    return $row === false ? "there is no programme $code" : "changed meanwhile: version $row[row_version], $row[hours_left] hours";
}

$url = parse_url((string) getenv('DATABASE_URL'));
$database = new PDO(
    sprintf('pgsql:host=%s;port=%d;dbname=%s', $url['host'], $url['port'], ltrim($url['path'], '/')),
    urldecode($url['user']),
    urldecode($url['pass']),
    [PDO::ATTR_ERRMODE => PDO::ERRMODE_EXCEPTION],
);
echo change($database, $argv[1], $argv[2], (int) $argv[3]), "\n";
