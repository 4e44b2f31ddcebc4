import java.net.URI;
import java.net.http.HttpClient;
import java.net.http.HttpRequest;
import java.net.http.HttpResponse;
import java.util.UUID;
import java.util.regex.Pattern;

/** Ledgerman over plain HTTP, with Java's own client: load, change with the guard, meet a conflict, run a transaction, repeat safely. */
public class Desk {
    static final String BASE = System.getenv("LEDGERMAN_URL") + "/v1/targets/observatory";
    static final HttpClient HTTP = HttpClient.newHttpClient();

    /** A refusal: branch on code; the body has what the code promises. */
    static class Problem extends RuntimeException {
        final String code, body;

        Problem(String body) {
            super(member(body, "detail"));
            this.code = member(body, "code");
            this.body = body;
        }
    }

    /** One call. What is too busy or away (429, 503) is asked again: safe for reads, and for writes with an idempotency key. */
    static HttpResponse<String> call(String method, String path, String body, String... headers) throws Exception {
        var content = body == null ? HttpRequest.BodyPublishers.noBody() : HttpRequest.BodyPublishers.ofString(body);
        var request = HttpRequest.newBuilder(URI.create(BASE + path)).method(method, content)
            .header("authorization", "Bearer " + System.getenv("LEDGERMAN_TOKEN")).header("content-type", "application/json");
        if (headers.length > 0) request.headers(headers);
        boolean mayRepeat = method.equals("GET") || String.join(" ", headers).contains("idempotency-key");
        for (int attempt = 1; ; attempt++) {
            var answer = HTTP.send(request.build(), HttpResponse.BodyHandlers.ofString());
            if (answer.statusCode() < 300) return answer;
            boolean isBusy = answer.statusCode() == 429 || answer.statusCode() == 503;
            if (!isBusy || !mayRepeat || attempt == 5) throw new Problem(answer.body());
            Thread.sleep(1000L * Integer.parseInt(answer.headers().firstValue("retry-after").orElse("1")));
        }
    }

    /** The first text member of that name; a real program has a JSON library for this. */
    static String member(String json, String name) {
        var found = Pattern.compile("\"" + name + "\"\\s*:\\s*\"((?:[^\"\\\\]|\\\\.)*)\"").matcher(json);
        return found.find() ? found.group(1) : null;
    }

    public static void main(String[] args) throws Exception {
        String programme = "/mappings/programme/records/P-107";
        var loaded = call("GET", programme, null);
        System.out.printf("P-107 has %s hours left, guard %s%n", member(loaded.body(), "hoursLeft"), member(loaded.body(), "guard"));

        String seen = loaded.headers().firstValue("etag").orElseThrow();
        var changed = call("PATCH", programme, "{\"set\":{\"hoursLeft\":\"14.50\"}}", "if-match", seen);
        System.out.printf("changed: guard %s%n", member(changed.body(), "guard"));

        try {
            call("PATCH", programme, "{\"set\":{\"hoursLeft\":\"12.00\"}}", "if-match", seen);
        } catch (Problem problem) {
            if (!problem.code.equals("record-changed")) throw problem;
            String yours = problem.body.substring(problem.body.indexOf("\"yours\""));
            String current = problem.body.substring(problem.body.indexOf("\"current\""));
            System.out.printf("conflict: yours %s, current %s%n", member(yours, "hoursLeft"), member(current, "hoursLeft"));
        }

        String once = UUID.randomUUID().toString();
        String run = "{\"mode\":\"commit\",\"transaction\":\"move-hours\",\"params\":{\"from\":\"P-107\",\"to\":\"P-112\",\"hours\":\"4\"}}";
        for (int time = 0; time < 2; time++) {
            var receipt = call("POST", "/runs", run, "idempotency-key", once);
            boolean isReplayed = receipt.body().contains("\"replayed\":true");
            System.out.println(isReplayed ? "the same run again: nothing was done twice" : "moved 4 hours");
        }
    }
}
