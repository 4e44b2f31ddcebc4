<?php
class Repo {
    private const LOAD = 'select code, titel from programme where code = ?'; // finds unknown-name
    private const SORTS = ['t' => 'title', 'c' => 'code'];
    public function __construct(private \PDO $pdo, private $conn) {}
    // 1 unknown column
    public function load(string $code) { $s = $this->pdo->prepare(self::LOAD); $s->execute([$code]); return $s->fetch(); }
    // 2 sorted, sound
    public function sorted(string $by) {
        return $this->pdo->query('select code from programme order by ' . (self::SORTS[$by] ?? 'code'))->fetchAll();
    }
    // 3 count-ignored, returns true
    public function remove(string $code): bool {
        $s = $this->pdo->prepare('delete from telescope where code = ?'); // finds count-ignored
        return $s->execute([$code]);
    }
    // 4 in list: sound
    public function many(array $codes) {
        $marks = implode(',', array_fill(0, count($codes), '?'));
        $s = $this->pdo->prepare("select name from telescope where code in ($marks)");
        $s->execute($codes);
        return $s->fetchAll();
    }
    // 5 in list: sound
    public function many2(array $codes) {
        $in = str_repeat('?,', count($codes) - 1) . '?';
        $s = $this->pdo->prepare("select name from telescope where code in ($in)");
        $s->execute($codes);
        return $s->fetchAll();
    }
    // 6 implode values
    public function many3(array $codes) {
        return $this->pdo->query("select name from telescope where code in ('" . implode("','", $codes) . "')")->fetchAll(); // finds value-in-text
    }
    // 7 early return, transaction open
    public function early(string $code): bool {
        $this->pdo->beginTransaction();
        $s = $this->pdo->prepare('delete from telescope where code = :code'); // finds never-committed
        $s->execute([':code' => $code]);
        if ($s->rowCount() !== 1) {
            return false; // finds never-committed
        }
        $this->pdo->commit();
        return true;
    }
    // 8 bound in branch, sound
    public function branch(?string $name, string $code) {
        $sql = 'select code from telescope where code = :code';
        if ($name !== null) { $sql .= ' and name = :name'; }
        $s = $this->pdo->prepare($sql);
        $s->bindValue(':code', $code);
        if ($name !== null) { $s->bindValue(':name', $name); }
        $s->execute();
        return $s->fetchAll();
    }
    // 9 Doctrine DBAL: count-ignored
    public function dbal(string $code): void {
        $this->conn->executeStatement('delete from telescope where code = ?', [$code]); // finds count-ignored
    }
    // 10 Doctrine sound
    public function dbal2(string $code): void {
        if ($this->conn->executeStatement('delete from telescope where code = ?', [$code]) === 0) throw new \Exception();
    }
    // 11 prepared in loop: one-by-one
    public function each(array $codes): int {
        $n = 0;
        $s = $this->pdo->prepare('delete from telescope where code = ?');
        foreach ($codes as $code) { $s->execute([$code]); $n += $s->rowCount(); }
        return $n;
    }
    // 12 query with condition pasted from a method
    public function cond(Filter $f) {
        return $this->pdo->query('select code from programme where ' . $f->toSql())->fetchAll(); // finds value-in-text
    }
    // 13 heredoc
    public function heredoc(string $t) {
        return $this->pdo->query(<<<SQL
            select code from programme
            where title = '{$t}'
        SQL)->fetchAll(); // finds value-in-text at -1
    }
    // 14 quote
    public function quoted(string $t) {
        return $this->pdo->query('select code from programme where title = ' . $this->pdo->quote($t))->fetchAll(); // finds value-in-text
    }
    // 15 limit int
    public function lim(int $n) { return $this->pdo->query("select code from programme limit $n")->fetchAll(); } // finds value-in-text
    // 16 exec, count returned
    public function ex(): int { return $this->pdo->exec("delete from telescope where code = 'HF9'"); }
    // 17 exec not looked at
    public function ex2(): void { $this->pdo->exec("delete from telescope where code = 'HF9'"); } // finds count-ignored
    // 18 pg affected
    public function pg($db, $code) { $r = pg_query_params($db, 'delete from telescope where code = $1', [$code]); if (pg_affected_rows($r) !== 1) throw new \Exception(); }
}
