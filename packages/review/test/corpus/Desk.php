<?php

class Desk
{
    const LOAD = 'select title from programme where code = ?';

    public function __construct(private PDO $pdo)
    {
    }

    public function load(string $code)
    {
        $statement = $this->pdo->prepare('select title from programme where code = ?');
        $statement->execute([$code]);
        return $statement->fetch();
    }

    public function loadNamed(string $code)
    {
        $statement = $this->pdo->prepare('select title from programme where code = :code');
        $statement->execute(['code' => $code]);
        return $statement->fetch();
    }

    public function loadBound(string $code)
    {
        $statement = $this->pdo->prepare('select title from programme where code = :code');
        $statement->bindValue(':code', $code);
        $statement->execute();
        return $statement->fetch();
    }

    public function loadInterpolated(string $code)
    {
        return $this->pdo->query("select title from programme where code = '$code'")->fetch(); // finds value-in-text
    }

    public function loadConcatenated(string $code)
    {
        return $this->pdo->query("select title from programme where code = '" . $code . "'")->fetch(); // finds value-in-text
    }

    public function loadFormatted(string $code)
    {
        return $this->pdo->query(sprintf("select title from programme where code = '%s'", $code))->fetch(); // finds value-in-text
    }

    public function loadBraces(string $code)
    {
        return $this->pdo->query("select title from programme where code = '{$code}'")->fetch(); // finds value-in-text
    }

    public function loadTooFew(string $code)
    {
        $statement = $this->pdo->prepare('select title from programme where code = ? and semester = ?'); // finds parameter-count at 1
        $statement->execute([$code]);
        return $statement->fetch();
    }

    public function loadMissing(string $code)
    {
        $statement = $this->pdo->prepare('select title from programme where code = :code'); // finds parameter-count at 1
        $statement->execute(['kode' => $code]);
        return $statement->fetch();
    }

    public function removeAll()
    {
        return $this->pdo->exec('delete from exposure'); // finds every-row
    }

    public function raiseAll()
    {
        return $this->pdo->exec('update programme set priority = priority + 1 where 1 = 1'); // finds every-row
    }

    public function withoutEmail()
    {
        return $this->pdo->query('select code from programme where contact_email = null')->fetchAll(); // finds null-comparison
    }

    public function misspelled()
    {
        return $this->pdo->query('select titel from programme')->fetchAll(); // finds unknown-name
    }

    public function broken()
    {
        return $this->pdo->query('select code frm programme where')->fetchAll(); // finds does-not-parse
    }

    public function rename(int $id, string $name)
    {
        $statement = $this->pdo->prepare('update observer set name = ? where id = ?'); // finds count-ignored
        $statement->execute([$name, $id]);
        return true;
    }

    public function renameCounted(int $id, string $name)
    {
        $statement = $this->pdo->prepare('update observer set name = ? where id = ?');
        $statement->execute([$name, $id]);
        return $statement->rowCount() === 1;
    }

    public function saveTitle(string $code, string $title)
    {
        $statement = $this->pdo->prepare('update programme set title = ? where code = ?'); // finds unguarded-save
        $statement->execute([$title, $code]);
        return $statement->rowCount();
    }

    public function byName(string $name)
    {
        $statement = $this->pdo->prepare("update observer set role = 'lead' where name = ?"); // finds not-one-row
        $statement->execute([$name]);
        return $statement->rowCount();
    }

    public function renumber(int $old, int $now)
    {
        $statement = $this->pdo->prepare('update observer set id = ? where id = ?'); // finds key-assigned
        $statement->execute([$now, $old]);
        return $statement->rowCount();
    }

    public function transferApart(string $giver, string $taker, string $hours)
    {
        $take = $this->pdo->prepare('update budget set hours = hours - ? where code = ?');
        $take->execute([$hours, $giver]);
        $give = $this->pdo->prepare('update budget set hours = hours + ? where code = ?'); // finds apart
        $give->execute([$hours, $taker]);
        return $take->rowCount() + $give->rowCount();
    }

    public function transfer(string $giver, string $taker, string $hours)
    {
        $this->pdo->beginTransaction();
        try {
            $take = $this->pdo->prepare('update budget set hours = hours - ? where code = ?');
            $take->execute([$hours, $giver]);
            $give = $this->pdo->prepare('update budget set hours = hours + ? where code = ?');
            $give->execute([$hours, $taker]);
            if ($take->rowCount() + $give->rowCount() !== 2) {
                throw new RuntimeException('no such budget');
            }
            $this->pdo->commit();
        } catch (Throwable $error) {
            $this->pdo->rollBack();
            throw $error;
        }
    }

    public function neverCommits(string $code)
    {
        $this->pdo->beginTransaction();
        $statement = $this->pdo->prepare('delete from telescope where code = ?'); // finds never-committed
        $statement->execute([$code]);
        return $statement->rowCount();
    }

    public function neverRollsBack(string $code)
    {
        $this->pdo->beginTransaction();
        $statement = $this->pdo->prepare('delete from telescope where code = ?'); // finds never-committed
        $statement->execute([$code]);
        $this->pdo->commit();
        return $statement->rowCount();
    }

    public function hold(string $code)
    {
        $statement = $this->pdo->prepare('select code from telescope where code = ? for update'); // finds unbounded-wait
        $statement->execute([$code]);
        return $statement->fetch();
    }

    public function each(array $codes)
    {
        foreach ($codes as $code) {
            $statement = $this->pdo->prepare('update telescope set name = upper(name) where code = ?'); // finds one-by-one
            $statement->execute([$code]);
            if ($statement->rowCount() !== 1) {
                throw new RuntimeException($code);
            }
        }
    }

    public function byFunctions($connection, string $code)
    {
        return pg_query_params($connection, 'select title from programme where code = $1', [$code]);
    }

    public function byFunctionsBadly($connection, string $code)
    {
        return pg_query($connection, "select title from programme where code = '$code'"); // finds value-in-text
    }

    public function byFunctionsShort($connection, string $code)
    {
        return pg_query_params($connection, 'select title from programme where code = $1 and semester = $2', [$code]); // finds parameter-count
    }

    public function castColumn(string $id)
    {
        $statement = $this->pdo->prepare('select name from observer where cast(id as text) = ?'); // finds type-mismatch
        $statement->execute([$id]);
        return $statement->fetch();
    }

    public function heredoc(int $programme)
    {
        $text = <<<SQL
            select id
            from block
            where programme_id = $programme
            SQL;
        return $this->pdo->query($text)->fetchAll(); // finds value-in-text at -2
    }

    public function notSql($log)
    {
        $log->info('select a telescope from the list');
    }
}
