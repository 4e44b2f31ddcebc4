// Ledgerman over plain HTTP, with .NET's own client: load, change with the guard, meet a conflict, run a transaction, repeat safely.
using System.Net.Http.Headers;
using System.Text;
using System.Text.Json.Nodes;

var http = new HttpClient { BaseAddress = new Uri(Environment.GetEnvironmentVariable("LEDGERMAN_URL") + "/v1/targets/observatory/") };
http.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", Environment.GetEnvironmentVariable("LEDGERMAN_TOKEN"));

const string programme = "mappings/programme/records/P-107";
var (loaded, etag) = await Call(HttpMethod.Get, programme);
Console.WriteLine($"P-107 has {loaded["record"]!["hoursLeft"]} hours left, guard {loaded["guard"]}");

var seen = new[] { ("if-match", etag!) };
var (changed, _) = await Call(HttpMethod.Patch, programme, """{ "set": { "hoursLeft": "14.50" } }""", seen);
Console.WriteLine($"changed: guard {changed["guard"]}");

try
{
    await Call(HttpMethod.Patch, programme, """{ "set": { "hoursLeft": "12.00" } }""", seen);
}
catch (Problem problem) when (problem.Code == "record-changed")
{
    Console.WriteLine($"conflict: yours {problem.Facts["yours"]!["hoursLeft"]}, current {problem.Facts["current"]!["hoursLeft"]}");
}

var once = new[] { ("idempotency-key", Guid.NewGuid().ToString()) };
const string run = """{ "mode": "commit", "transaction": "move-hours", "params": { "from": "P-107", "to": "P-112", "hours": "4" } }""";
for (var time = 0; time < 2; time++)
{
    var (receipt, _) = await Call(HttpMethod.Post, "runs", run, once);
    Console.WriteLine((bool)receipt["replayed"]! ? "the same run again: nothing was done twice" : "moved 4 hours");
}

// One call. What is too busy or away (429, 503) is asked again: safe for reads, and for writes with an idempotency key.
async Task<(JsonNode Body, string? ETag)> Call(HttpMethod method, string path, string? body = null, (string Name, string Value)[]? headers = null)
{
    var mayRepeat = method == HttpMethod.Get || (headers?.Any(header => header.Name == "idempotency-key") ?? false);
    for (var attempt = 1; ; attempt++)
    {
        using var request = new HttpRequestMessage(method, path);
        if (body != null) request.Content = new StringContent(body, Encoding.UTF8, "application/json");
        foreach (var (name, value) in headers ?? []) request.Headers.TryAddWithoutValidation(name, value);
        using var answer = await http.SendAsync(request);
        var told = JsonNode.Parse(await answer.Content.ReadAsStringAsync())!;
        if (answer.IsSuccessStatusCode) return (told, answer.Headers.ETag?.ToString());
        var isBusy = (int)answer.StatusCode is 429 or 503;
        if (!isBusy || !mayRepeat || attempt == 5) throw new Problem(told);
        await Task.Delay(answer.Headers.RetryAfter?.Delta ?? TimeSpan.FromSeconds(1));
    }
}

// A refusal: branch on Code; what the code promises stands in Facts.
class Problem(JsonNode facts) : Exception((string?)facts["detail"])
{
    public JsonNode Facts { get; } = facts;
    public string Code { get; } = (string)facts["code"]!;
}
