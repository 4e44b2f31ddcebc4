<?php

function bound(PDO $db, string $code): int
{
    $statement = $db->prepare('delete from budget where code = ?');
    $statement->execute([$code]);
    return $statement->rowCount();
}

function named(PDO $db, string $code): int
{
    $statement = $db->prepare('delete from budget where code = :code');
    $statement->execute(['code' => $code]);
    return $statement->rowCount();
}

function pasted(PDO $db, string $code): int
{
    $statement = $db->prepare("delete from budget where code = '$code'"); // finds value-in-text
    $statement->execute();
    return $statement->rowCount();
}

function added(PDO $db, string $code): int
{
    $statement = $db->prepare("delete from budget where code = '" . $code . "'"); // finds value-in-text
    $statement->execute();
    return $statement->rowCount();
}

function every(PDO $db): int
{
    $statement = $db->prepare('update budget set hours = 0'); // finds every-row
    $statement->execute();
    return $statement->rowCount();
}

function few(PDO $db, string $code): int
{
    $statement = $db->prepare('update budget set hours = ? where code = ?'); // finds parameter-count at 1
    $statement->execute([$code]);
    return $statement->rowCount();
}

function none(PDO $db): array
{
    $statement = $db->prepare('select id from block where assigned_to = null'); // finds null-comparison
    $statement->execute();
    return $statement->fetchAll();
}

function astray(PDO $db): array
{
    $statement = $db->prepare('select titel from programme'); // finds unknown-name
    $statement->execute();
    return $statement->fetchAll();
}
