using System.Diagnostics;
using System.Globalization;
using Imbrek.Bench;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using Imbrek.Data;
using Imbrek.StandIn.Scenario;
using NodaTime;
using Npgsql;

// Measures what the definitions compute at fleet size, on one core, and the same worst-exposure question as SQL over the same
// rows in the same run. Prints the table of docs/performance.md.
CultureInfo.CurrentCulture = CultureInfo.InvariantCulture;
var now = Instant.FromUtc(2026, 11, 23, 12, 0);
var week = Duration.FromDays(7);
var losses = Enum.GetValues<LossKind>().Select(Loss.OfKind).ToArray();

Console.WriteLine("| what | measured | asked for |");
Console.WriteLine("| --- | --- | --- |");

if (args is ["fleet-list" or "import"])
{
    await FleetList();
    return;
}

if (args is ["replicas"])
{
    await Replicas();
    return;
}

if (args is ["drills"])
{
    DrillBench.Run(now, Row);
    return;
}

if (args is ["ways"])
{
    WaysBench.Run(now, Row);
    return;
}

if (args is ["timetable"])
{
    Timetable();
    return;
}

var (one, memory, subjects) = Evaluate(10_000, 100);
Row("worst exposure, 1,000,000 sets in 10,000 databases, 7-day window, five losses, one core", $"{one:0.00} s", "under 2 s");
Row("memory held per set, catalogue and lineage, 1.1 copies a set", $"{memory:0} bytes", "under 128 bytes");
var sql = Environment.GetEnvironmentVariable("IMBREK_TEST_PG") is { } postgres ? await SqlAsync(postgres, subjects) : (Seconds: double.NaN, Ours: double.NaN, Differ: 0);
Row("the same question as SQL window functions in PostgreSQL, one loss (nothing lost)", $"{sql.Seconds:0.00} s", "");
Row("ours for that one loss, same rows, same run", $"{sql.Ours:0.000} s, {sql.Seconds / sql.Ours:0} times as fast, {sql.Differ} databases differ", "20 times as fast, none differ");
subjects = null!;
GC.Collect();
var (two, _, _) = Evaluate(20_000, 100);
Row("2,000,000 sets against 1,000,000", $"{two / one:0.00} times the time", "at most 2.3 times");
Path();
await Replicas();
DrillBench.Run(now, Row);
WaysBench.Run(now, Row);
Timetable();
await FleetList();

async Task Replicas()
{
    ReplicaBench.Run(now, Row);
    if (Environment.GetEnvironmentVariable("IMBREK_TEST_PG") is { } server)
    {
        await ReplicaBench.SamplesAsync(server, now, Row);
    }
}

void Timetable()
{
    var due = new List<long>(40_000_000);
    foreach (var words in (string[])["every 15 minutes", "every 5 minutes between 06:00 and 22:00", "daily 01:30", "weekdays 06:00, 12:00, 18:00"])
    {
        var recurrence = When(words);
        var watch = Stopwatch.StartNew();
        due.Clear();
        for (var database = 0; database < 2000; database++)
        {
            recurrence.Expand(now.ToUnixTimeMilliseconds(), (now + Duration.FromDays(120)).ToUnixTimeMilliseconds(), due);
            if (due.Count > 30_000_000)
            {
                due.Clear();
            }
        }

        watch.Stop();
        Row($"expansion of \"{words}\" over 120 days with clock changes", $"{recurrence.Between(now, now + Duration.FromDays(120)).Count() * 2000.0 / watch.Elapsed.TotalSeconds / 1e6:0.0} million occurrences a second", "millions a second");
    }

    var fleet = FleetGenerator.Fleet(10_000);
    var whole = Stopwatch.StartNew();
    var counter = new Counter();
    Prediction.Run(new PredictionInput { Fleet = fleet, Series = Series.Of(Weekly(140), fleet), From = now, To = now + Duration.FromDays(30) }, counter);
    whole.Stop();
    Row($"prediction of 30 days of 10,000 databases, {counter.Runs / 1e6:0.0} million runs", $"{whole.Elapsed.TotalSeconds:0.0} s, {counter.Runs / 1e6 / whole.Elapsed.TotalSeconds:0.0} million runs a second", "");

    var five = FleetGenerator.Fleet(500);
    foreach (var sample in (int[])[12, 24, 500])
    {
        var times = new List<double>();
        for (var round = 0; round < 5; round++)
        {
            var edit = Stopwatch.StartNew();
            Designer.Design(new DesignQuestion { Fleet = five, Series = Series.Of(Weekly(20), five), Databases = [.. five.Databases.Where((_, i) => i % (500 / sample) == 0).Take(sample)], From = now });
            times.Add(edit.Elapsed.TotalMilliseconds);
        }

        Row($"one edit of a plan of 500 databases, all simulated, figures of {sample} under five losses", $"{times.Order().ElementAt(2):0} ms", sample == 500 ? "" : "under 300 ms");
    }
}

Plan Weekly(int spreadHours) => new(
    new("all"),
    "All",
    new Selection { Engines = [new("chain")] },
    [
        new PlanTask { Id = "full", Kind = TaskKind.Full, Recurrence = When("Sundays 00:00"), SpreadOver = Duration.FromHours(spreadHours), Store = new Id<Store>("store-east"), CopyTo = [new("store-west")] },
        new PlanTask { Id = "log", Kind = TaskKind.Log, Recurrence = When("every 15 minutes"), SpreadOver = Duration.FromMinutes(14), Store = new Id<Store>("store-east"), CopyTo = [new("store-west")] },
    ],
    TellRule.Nobody);

Recurrence When(string words) =>
    RecurrenceWords.TryParse(words, DateTimeZoneProviders.Tzdb["Europe/Oslo"], new LocalDate(2026, 1, 1), out var r, out var error) ? r! : throw new FormatException(error);

void Row(string what, string measured, string asked) => Console.WriteLine($"| {what} | {measured} | {asked} |");

(double Seconds, double BytesPerSet, RecoverySubject[] Subjects) Evaluate(int databases, int setsEach)
{
    var fleet = FleetGenerator.Fleet(databases);
    GC.Collect();
    var before = GC.GetTotalMemory(true);
    var subjects = fleet.Databases.Select(d => RecoverySubject.Of(fleet, d, new DatabaseCatalogue(d.Id, FleetGenerator.Sets(d.Id, setsEach, 8, now)))).ToArray();
    var bytes = (GC.GetTotalMemory(true) - before) / (double)(databases * setsEach);
    var best = double.MaxValue;
    for (var round = 0; round < 3; round++)
    {
        var watch = Stopwatch.StartNew();
        var worst = 0.0;
        foreach (var s in subjects)
        {
            foreach (var loss in losses)
            {
                worst = Math.Max(worst, Evaluator.Over(s, loss, now - week, now).WorstExposureSeconds ?? 0);
            }
        }

        best = Math.Min(best, watch.Elapsed.TotalSeconds);
        if (worst <= 0)
        {
            throw new InvalidOperationException("nothing was measured");
        }
    }

    return (best, bytes, subjects);
}

// For plain chains in order: each copy that becomes available reaches its coversTo; the worst is just before the next one does.
async Task<(double Seconds, double Ours, int Differ)> SqlAsync(string server, RecoverySubject[] subjects)
{
    await using var database = await BenchDatabase.CreateAsync(server);
    await using var connection = await database.Source.OpenConnectionAsync();
    await using (var transaction = await connection.BeginTransactionAsync())
    {
        await CatalogueTable.InsertAsync(connection, subjects.Select(s => s.Catalogue), default);
        await transaction.CommitAsync();
    }

    await using (var analyze = new NpgsqlCommand("analyze; set max_parallel_workers_per_gather = 0; set work_mem = '256MB'", connection))
    {
        await analyze.ExecuteNonQueryAsync();
    }

    const string question =
        """
        with first_copy as (
          select s.database, s.covers_to, min(c.available_at) as available_at
          from backup_sets s join backup_copies c on c.database = s.database and c.set_id = s.id
          where c.state <> 2 and c.removed_at is null
          group by s.database, s.id, s.covers_to),
        steps as (
          select database, greatest(available_at, @from) as at,
                 max(covers_to) over (partition by database order by available_at) as latest,
                 lead(available_at) over (partition by database order by available_at) as next
          from first_copy where available_at <= @to)
        select database, max(extract(epoch from coalesce(next, @to) - latest)) from steps
        where coalesce(next, @to) > @from group by database
        """;
    var watch = Stopwatch.StartNew();
    var answers = new Dictionary<string, double>();
    await using (var command = new NpgsqlCommand(question, connection))
    {
        command.Parameters.AddWithValue("from", now - week);
        command.Parameters.AddWithValue("to", now);
        await using var reader = await command.ExecuteReaderAsync();
        while (await reader.ReadAsync())
        {
            answers[reader.GetString(0)] = (double)reader.GetDecimal(1);
        }
    }

    var seconds = watch.Elapsed.TotalSeconds;
    var ours = double.MaxValue;
    var differ = 0;
    for (var round = 0; round < 3; round++)
    {
        watch.Restart();
        differ = 0;
        foreach (var s in subjects)
        {
            var worst = Evaluator.Over(s, Loss.None, now - week, now).WorstExposureSeconds;
            differ += Math.Abs(worst!.Value - answers[s.Database.Id.Value]) > 0.002 ? 1 : 0;
        }

        ours = Math.Min(ours, watch.Elapsed.TotalSeconds);
    }

    return (seconds, ours, differ);
}

void Path()
{
    var fleet = FleetGenerator.Fleet(1);
    var d = fleet.Databases[0];
    var sets = Enumerable.Range(0, 100_001).Select(i => new BackupSet
    {
        Id = new($"s{i}"),
        Database = d.Id,
        Kind = i == 0 ? SetKind.Full : SetKind.Log,
        FromPosition = i == 0 ? null : i - 1,
        ToPosition = i,
        CoversFrom = i == 0 ? null : now - Duration.FromMinutes(100_001 - i),
        CoversTo = now - Duration.FromMinutes(100_000 - i),
        FinishedAt = now,
        DataBytes = 1000,
        Copies = [new(new("store-east"), now - Duration.FromMinutes(100_000 - i), null, null, 1000, CopyState.Good)],
    });
    var subject = RecoverySubject.Of(fleet, d, new DatabaseCatalogue(d.Id, sets));
    var best = double.MaxValue;
    for (var round = 0; round < 5; round++)
    {
        var watch = Stopwatch.StartNew();
        var path = PathFinder.Find(subject, new PathQuestion { Target = now, At = now }).Best!;
        best = Math.Min(best, watch.Elapsed.TotalMilliseconds);
        if (path.Steps.Count != 100_001)
        {
            throw new InvalidOperationException($"the path has {path.Steps.Count} steps");
        }
    }

    Row("a path over a chain of 100,000 log sets", $"{best:0} ms", "under 50 ms");
}

// The fleet list over HTTP, when a server with 10,000 databases is named (see scripts/bench.sh).
async Task FleetList()
{
    if (Environment.GetEnvironmentVariable("IMBREK_BENCH_URL") is not { } url)
    {
        return;
    }

    using var http = new HttpClient { BaseAddress = new Uri(url), Timeout = TimeSpan.FromMinutes(5) };
    var signIn = new StringContent("""{"name":"admin","password":"tarnholt-demo-1"}""", System.Text.Encoding.UTF8, "application/json");
    var me = System.Text.Json.JsonDocument.Parse(await (await http.PostAsync("/api/sign-in", signIn)).Content.ReadAsStringAsync());
    http.DefaultRequestHeaders.Add("X-Imbrek-Token", me.RootElement.GetProperty("antiforgeryToken").GetString());
    var bare = FleetGenerator.Fleet(10_000);

    // Twenty plans of 500 databases, fulls spread over most of a week, a log every 15 minutes.
    var fleet = bare.WithPlans(bare.Databases.Chunk(500).Select((members, i) =>
        Weekly(140) with { Id = new($"plan-{i}"), Name = $"Plan {i}", Members = new Selection { Databases = [.. members.Select(m => m.Id)] } }));
    var at = SystemClock.Instance.GetCurrentInstant();
    var sets = fleet.Databases.SelectMany(d => FleetGenerator.Sets(d.Id, 100, 8, at - Duration.FromMinutes(5))).ToArray();
    var plain = await PlainCopyAsync(new(sets));
    using var form = new MultipartFormDataContent
    {
        { new StringContent(Imbrek.Core.Formats.FleetFile.Write(fleet)), "fleet", "fleet.json" },
        {
            new StringContent(string.Join('\n', sets.Select(Imbrek.Core.Formats.CatalogueFile.WriteLine))),
            "catalogue",
            "catalogue.jsonl"
        },
    };
    var watch = Stopwatch.StartNew();
    (await http.PostAsync("/api/import", form)).EnsureSuccessStatusCode();
    var import = watch.Elapsed.TotalSeconds;
    watch.Restart();
    await http.GetByteArrayAsync("/api/fleet");
    var list = watch.Elapsed.TotalSeconds;

    // Before and after, and the mean of both: on a machine that is shared the few seconds of one say little.
    var after = await PlainCopyAsync(new(sets));
    Row($"a plain COPY of the {sets.Length:N0} sets and their {sets.Sum(s => s.Copies.Count):N0} copies into tables without keys, before and after", $"{plain:0.0} and {after:0.0} s", "");
    sets = [];
    Row("import of 10,000 databases and 1,000,000 sets over HTTP, checked, kept, loaded", $"{import:0.0} s, {import / ((plain + after) / 2):0.0} times the mean of both", "at most 4 times");
    Row("fleet list of 10,000 databases, all figures, the first time", $"{list:0.0} s", "under 3 s");
    if (args is ["import"])
    {
        return;
    }

    Row("the same again", $"{await Best("/api/fleet"):0} ms", "under 1,000 ms");
    Row("a page of 100", $"{await Best("/api/fleet?from=5000&take=100"):0} ms", "under 100 ms");
    watch.Restart();
    await http.GetByteArrayAsync("/api/plans");
    Row("20 plans over 10,000 databases, all simulated and all designed under five losses, the first time", $"{watch.Elapsed.TotalSeconds:0.0} s", "");
    Row("the list of plans again, with findings", $"{await Best("/api/plans"):0} ms", "");
    Row("findings of 10,000 databases", $"{await Best("/api/findings"):0} ms", "");
    var plan = System.Text.Json.JsonDocument.Parse(await http.GetStringAsync("/api/plans/plan-7")).RootElement.GetProperty("plan").GetRawText();
    Row("consequences of one edit there, over HTTP", $"{await BestOf(() => http.PostAsync("/api/consequences", new StringContent(plan, System.Text.Encoding.UTF8, "application/json"))):0} ms", "");
    Row("timetable of a day there", $"{await Best($"/api/timetable?from={at}&to={at + Duration.FromDays(1)}"):0} ms", "");
    await RunsAsync();

    // The history of a million runs; one in a thousand failed, one in 50,000 for a reason of its own.
    async Task RunsAsync()
    {
        await using var source = ImbrekDatabase.Source($"{Environment.GetEnvironmentVariable("IMBREK_TEST_PG")};Database=bench;Command Timeout=600");
        await using var connection = await source.OpenConnectionAsync();
        watch.Restart();
        for (var part = 0; part < 10; part++)
        {
            await using var transaction = await connection.BeginTransactionAsync();
            await RunTable.UpsertAsync(connection, [.. Enumerable.Range(part * 100_000, 100_000).Select(RunOf)], default);
            await transaction.CommitAsync();
        }

        Row("1,000,000 runs kept, with their search index", $"{watch.Elapsed.TotalSeconds:0} s", "");
        await using (var analyze = new NpgsqlCommand("vacuum analyze runs", connection) { CommandTimeout = 600 })
        {
            await analyze.ExecuteNonQueryAsync();
        }

        var deep = Uri.EscapeDataString($"{at - Duration.FromDays(9)}|{Guid.Empty}");
        foreach (var (what, query) in ((string, string)[])
        [
            ("the first page of 1,000,000 runs", ""), ("a page in their middle", $"&before={deep}"), ("those of one database", "&database=db-4321"), ("those that failed", "&state=failed"),
            ("searched for a note that 20 have", "&find=elbow"), ("for a word that nearly all have", "&find=log"), ("for a set by its name", "&find=db-77-set-770077"), ("for a word that none has", "&find=zebra"),
        ])
        {
            Row($"{what}", $"{await Best($"/api/runs?take=40{query}"):0} ms", "");
        }
    }

    TaskRun RunOf(int i)
    {
        var (database, due) = (new Id<Database>($"db-{i % 10_000}"), at - Duration.FromSeconds(i * 1.5));
        var failed = i % 1000 == 999;
        return new TaskRun
        {
            Id = TaskRun.IdOf(new($"plan-{i % 10_000 / 500}"), "log", database, due, null, null),
            Plan = new($"plan-{i % 10_000 / 500}"),
            Task = "log",
            Kind = TaskKind.Log,
            Database = database,
            Due = due,
            State = failed ? RunState.Failed : RunState.Done,
            Started = due,
            Ended = due + Duration.FromSeconds(5),
            Attempts = failed ? 2 : 1,
            StoredBytes = 1_000_000,
            ExpectedSeconds = 5,
            Set = failed ? null : new Id<BackupSet>($"{database}-set-{i}"),
            Note = !failed ? null : i % 50_000 == 49_999 ? "the elbow of the tape arm is stuck" : "no link leads there",
        };
    }

    Task<double> Best(string path) => BestOf(() => http.GetAsync(path));

    async Task<double> BestOf(Func<Task<HttpResponseMessage>> ask)
    {
        var best = double.MaxValue;
        for (var i = 0; i < 5; i++)
        {
            watch.Restart();
            await (await ask()).EnsureSuccessStatusCode().Content.ReadAsByteArrayAsync();
            best = Math.Min(best, watch.Elapsed.TotalMilliseconds);
        }

        return best;
    }
}

// The rows of sets as PostgreSQL takes them in by itself: binary COPY within one transaction, into tables without keys, and nothing looked at.
async Task<double> PlainCopyAsync(BackupCatalogue sets)
{
    await using var source = ImbrekDatabase.Source($"{Environment.GetEnvironmentVariable("IMBREK_TEST_PG")};Database=bench;Command Timeout=600");
    await using var connection = await source.OpenConnectionAsync();
    await using var transaction = await connection.BeginTransactionAsync();
    await using (var make = new NpgsqlCommand(
        """
        create schema plain;
        create table plain.backup_sets (like public.backup_sets including defaults);
        create table plain.backup_copies (like public.backup_copies including defaults);
        set local search_path = plain;
        """,
        connection))
    {
        await make.ExecuteNonQueryAsync();
    }

    var watch = Stopwatch.StartNew();
    await CatalogueTable.InsertAsync(connection, sets.All, default);
    await transaction.CommitAsync();
    var seconds = watch.Elapsed.TotalSeconds;
    await using var drop = new NpgsqlCommand("drop schema plain cascade", connection);
    await drop.ExecuteNonQueryAsync();
    return seconds;
}

/// <summary>Counts runs, and keeps none.</summary>
internal sealed class Counter : IPredictionSink
{
    public long Runs { get; private set; }

    public void Add(in PredictedRun run) => Runs++;

    public void AddCopy(int series, long captured, int copier, long at) => Runs++;
}
