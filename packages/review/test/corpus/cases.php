<?php

function begunInText(PDO $database, string $code): void
{
    $affected = $database->exec("begin; delete from budget where code = 'B-1'; commit"); // finds transaction-inside
    if ($affected !== 1) {
        throw new RuntimeException($code);
    }
}

function begunByDriver(PDO $database, string $code): void
{
    $database->beginTransaction();
    try {
        $statement = $database->prepare('delete from budget where code = ?'); // sound transaction-inside, never-committed, value-in-text
        $statement->execute([$code]);
        if ($statement->rowCount() !== 1) {
            throw new RuntimeException($code);
        }
        $database->commit();
    } catch (Throwable $error) {
        $database->rollBack();
        throw $error;
    }
}

function movedApart(PDO $database, string $from, string $to): void
{
    $take = $database->prepare('update budget set hours = hours - 1 where code = ?');
    $take->execute([$from]);
    $give = $database->prepare('update budget set hours = hours + 1 where code = ?'); // finds apart
    $give->execute([$to]);
    if ($take->rowCount() !== 1 || $give->rowCount() !== 1) {
        throw new RuntimeException($from);
    }
}

function movedTogether(PDO $database, string $from, string $to): void
{
    $database->beginTransaction();
    try {
        $take = $database->prepare('update budget set hours = hours - 1 where code = ?');
        $take->execute([$from]);
        $give = $database->prepare('update budget set hours = hours + 1 where code = ?'); // sound apart, never-committed
        $give->execute([$to]);
        if ($take->rowCount() !== 1 || $give->rowCount() !== 1) {
            throw new RuntimeException($from);
        }
        $database->commit();
    } catch (Throwable $error) {
        $database->rollBack();
        throw $error;
    }
}

function overwritten(PDO $database, string $code, string $semester): void
{
    $statement = $database->prepare('update programme set semester = :semester where code = :code'); // finds unguarded-save
    $statement->execute(['semester' => $semester, 'code' => $code]);
    if ($statement->rowCount() !== 1) {
        throw new RuntimeException($code);
    }
}

function guarded(PDO $database, string $code, string $semester, int $version): void
{
    $statement = $database->prepare(
        'update programme set semester = :semester, row_version = row_version + 1 where code = :code and row_version = :version', // sound unguarded-save, parameter-count, count-ignored
    );
    $statement->execute(['semester' => $semester, 'code' => $code, 'version' => $version]);
    if ($statement->rowCount() !== 1) {
        throw new RuntimeException('changed meanwhile');
    }
}

function castInCondition(PDO $database, string $id): array
{
    $statement = $database->prepare('select name from observer where id::text = ?'); // finds type-mismatch
    $statement->execute([$id]);
    return $statement->fetchAll();
}

function printed(PDO $database): void
{
    foreach ($database->query('select code from budget') as $row) { // sound one-by-one, value-in-text
        echo $row['code'];
    }
}

function tablesOfTheList(PDO $database, object $names, int $id): array
{
    $statement = $database->prepare("select count(*) from $names->blocks, $names->observers where $names->blocks.id = ?"); // sound value-in-text
    $statement->execute([$id]);
    return $statement->fetchAll();
}
