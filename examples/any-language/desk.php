<?php
// Ledgerman over plain HTTP, with PHP's own streams: load, change with the guard, meet a conflict, run a transaction, repeat safely.
const TARGET = '/v1/targets/observatory';

/** A refusal: branch on `code`; what the code promises stands in `facts`. */
class Problem extends Exception
{
    public function __construct(public readonly array $facts)
    {
        parent::__construct($facts['detail']);
    }
}

/** One call. What is too busy or away (429, 503) is asked again: safe for reads, and for writes with an idempotency key. */
function call(string $method, string $path, ?array $body = null, array $headers = []): array
{
    $mayRepeat = $method === 'GET' || isset($headers['idempotency-key']);
    $headers += ['authorization' => 'Bearer ' . getenv('LEDGERMAN_TOKEN'), 'content-type' => 'application/json'];
    $lines = array_map(fn ($name, $value) => "$name: $value", array_keys($headers), $headers);
    $options = ['method' => $method, 'header' => $lines, 'ignore_errors' => true, 'timeout' => 60];
    if ($body !== null) {
        $options['content'] = json_encode($body);
    }
    for ($attempt = 1; ; $attempt++) {
        $text = file_get_contents(getenv('LEDGERMAN_URL') . TARGET . $path, false, stream_context_create(['http' => $options]));
        if ($text === false) {
            throw new RuntimeException('The service cannot be reached.');
        }
        preg_match('/ (\d{3})/', $http_response_header[0], $status);
        $answer = json_decode($text, true);
        if ($status[1] < 300) {
            return [$http_response_header, $answer];
        }
        if (!in_array($status[1], ['429', '503']) || !$mayRepeat || $attempt === 5) {
            throw new Problem($answer);
        }
        sleep(1);
    }
}

$programme = '/mappings/programme/records/P-107';
[$headers, $loaded] = call('GET', $programme);
echo "P-107 has {$loaded['record']['hoursLeft']} hours left, guard {$loaded['guard']}\n";

$seen = ['if-match' => "\"{$loaded['guard']}\""];
[, $changed] = call('PATCH', $programme, ['set' => ['hoursLeft' => '14.50']], $seen);
echo "changed: guard {$changed['guard']}\n";

try {
    call('PATCH', $programme, ['set' => ['hoursLeft' => '12.00']], $seen);
} catch (Problem $problem) {
    if ($problem->facts['code'] !== 'record-changed') {
        throw $problem;
    }
    echo "conflict: yours {$problem->facts['yours']['hoursLeft']}, current {$problem->facts['current']['hoursLeft']}\n";
}

$once = ['idempotency-key' => bin2hex(random_bytes(16))];
$run = ['mode' => 'commit', 'transaction' => 'move-hours', 'params' => ['from' => 'P-107', 'to' => 'P-112', 'hours' => '4']];
for ($time = 0; $time < 2; $time++) {
    [, $receipt] = call('POST', '/runs', $run, $once);
    echo $receipt['replayed'] ? "the same run again: nothing was done twice\n" : "moved 4 hours\n";
}
