<?php
namespace Observatory;

use PDO;

class TelescopeStore
{
    private PDO $db;

    public function __construct(PDO $db)
    {
        $this->db = $db;
    }

    public function rename(string $code, string $name): bool
    {
        $stmt = $this->db->prepare('UPDATE telescope SET name = :name WHERE code = :code');
        $stmt->bindValue(':name', $name, PDO::PARAM_STR);
        $stmt->bindValue(':code', $code, PDO::PARAM_STR);
        $stmt->execute();
        return $stmt->rowCount() > 0;
    }

    public function renameBlind(string $code, string $name): void
    {
        $stmt = $this->db->prepare('UPDATE telescope SET name = :name WHERE code = :code'); // finds count-ignored
        $stmt->bindParam(':name', $name);
        $stmt->bindParam(':code', $code);
        $stmt->execute();
    }

    public function forgotten(string $code): void
    {
        $stmt = $this->db->prepare('UPDATE telescope SET name = :name WHERE code = :code');
        $stmt->bindValue(':code', $code); // finds parameter-count
        $stmt->execute();
        if ($stmt->rowCount() === 0) {
            throw new \RuntimeException('gone');
        }
    }

    public function search(string $q): array
    {
        return $this->db->query("SELECT code FROM telescope WHERE name LIKE '%" . $q . "%'")->fetchAll(); // finds value-in-text
    }

    public function interpolated(array $row): void
    {
        $n = $this->db->exec("DELETE FROM telescope WHERE code = '{$row['code']}'"); // finds value-in-text
        if ($n !== 1) {
            throw new \RuntimeException('gone');
        }
    }

    public function transfer(string $from, string $to, string $hours): void
    {
        try {
            $this->db->beginTransaction();
            $take = $this->db->prepare('UPDATE budget SET hours = hours - ? WHERE code = ?');
            $take->execute([$hours, $from]);
            $give = $this->db->prepare('UPDATE budget SET hours = hours + ? WHERE code = ?');
            $give->execute([$hours, $to]);
            if ($take->rowCount() + $give->rowCount() !== 2) {
                throw new \RuntimeException('gone');
            }
            $this->db->commit();
        } catch (\Throwable $e) {
            $this->db->rollBack();
            throw $e;
        }
    }

    public function apart(string $from, string $to, string $hours): void
    {
        $take = $this->db->prepare('UPDATE budget SET hours = hours - ? WHERE code = ?');
        $take->execute([$hours, $from]);
        if ($take->rowCount() !== 1) throw new \RuntimeException('gone');
        $give = $this->db->prepare('UPDATE budget SET hours = hours + ? WHERE code = ?'); // finds apart
        $give->execute([$hours, $to]);
        if ($give->rowCount() !== 1) throw new \RuntimeException('gone');
    }

    public function noCommit(string $code): void
    {
        $this->db->beginTransaction();
        $s = $this->db->prepare('DELETE FROM telescope WHERE code = ?'); // finds never-committed
        $s->execute([$code]);
        if ($s->rowCount() !== 1) {
            $this->db->rollBack();
            throw new \RuntimeException('gone');
        }
    }

    public function loop(array $ids): void
    {
        foreach ($ids as $id) {
            $s = $this->db->prepare('INSERT INTO exposure (id, quality) VALUES (?, 0)'); // finds one-by-one, key-assigned
            $s->execute([$id]);
        }
    }

    public function placeholders(array $ids): array
    {
        $in = join(', ', array_map(fn ($i) => ":id$i", array_keys($ids)));
        $s = $this->db->prepare("SELECT id FROM exposure WHERE id IN ($in)");
        foreach ($ids as $i => $id) {
            $s->bindValue(":id$i", $id);
        }
        $s->execute();
        return $s->fetchAll();
    }

    public function where(array $filter): array
    {
        $sql = 'SELECT id FROM exposure WHERE true';
        $values = [];
        if (isset($filter['quality'])) {
            $sql .= ' AND quality = ?';
            $values[] = $filter['quality'];
        }
        $s = $this->db->prepare($sql);
        $s->execute($values);
        return $s->fetchAll();
    }

    public function all(): void
    {
        $this->db->exec('DELETE FROM exposure'); // finds every-row
    }

    public function mistyped(string $code): ?array
    {
        $s = $this->db->prepare('SELECT nmae FROM telescope WHERE code = ?'); // finds unknown-name
        $s->execute([$code]);
        return $s->fetch() ?: null;
    }
}

$db = new PDO('pgsql:dbname=observatory');
$id = $_GET['id'];
$row = $db->query("SELECT * FROM programme WHERE id = $id")->fetch(); // finds value-in-text
echo $row['title'];
