using System.Diagnostics;
using System.Diagnostics.Metrics;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Server.State;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Metrics;

/// <summary>
/// What is measured for others to watch, as OpenTelemetry instruments: runs that ended, what waits and what is leased, how long evaluating takes;
/// and of each database and loss exposure, restore time and verdict, as the pages show them.
/// </summary>
internal sealed class ProductMetrics : IDisposable
{
    /// <summary>The name of the meter.</summary>
    public const string Name = "imbrek";

    /// <summary>The instrument of evaluation times.</summary>
    public const string EvaluationTimeName = "imbrek.evaluation.duration";

    /// <summary>Series of one instrument: 10,000 databases with five losses, and some.</summary>
    public const int MostSeries = 200_000;

    private static readonly TimeSpan Kept = TimeSpan.FromSeconds(1);
    private readonly Meter meter;
    private readonly Counter<long> ended;
    private readonly FleetState fleet;
    private readonly DesignedState plans;
    private readonly NpgsqlDataSource source;
    private readonly IClock clock;
    private readonly Lock gate = new();
    private (long At, IReadOnlyList<Figure> Figures) figures;

    public ProductMetrics(IMeterFactory meters, FleetState fleet, DesignedState plans, NpgsqlDataSource source, IClock clock)
    {
        (this.fleet, this.plans, this.source, this.clock) = (fleet, plans, source, clock);
        meter = meters.Create(Name);
        ended = meter.CreateCounter<long>("imbrek.runs.ended", "{run}", "Runs that ended in this process, by kind and outcome");
        EvaluationTime = meter.CreateHistogram<double>(EvaluationTimeName, "s", "Evaluating one database under one loss");
        DatabaseState.Evaluated = seconds => EvaluationTime.Record(seconds);
        meter.CreateObservableGauge("imbrek.runs.waiting", () => Count("select count(*) from runs where state = 0"), "{run}", "Runs that wait");
        meter.CreateObservableGauge("imbrek.runs.leased", () => Count("select count(*) from runs where lease_until > now()"), "{run}", "Runs that a process holds a lease of");
        meter.CreateObservableGauge("imbrek.exposure", () => Figures(f => f.Exposure), "s", "What would be lost now, by database and loss; absent where nothing can be restored");
        meter.CreateObservableGauge("imbrek.restore", () => Figures(f => f.Restore), "s", "Time until the service is back by the best way now, by database and loss; absent where there is none");
        meter.CreateObservableGauge("imbrek.verdict", () => Now().Select(f => new Measurement<int>(1, [.. f.Tags, new("verdict", f.Verdict)])), null, "1 for the verdict of a database under a loss");
    }

    private Histogram<double> EvaluationTime { get; }

    /// <summary>Takes note that runs ended.</summary>
    public void Ended(string kind, string outcome) => ended.Add(1, new("kind", kind), new("outcome", outcome));

    /// <inheritdoc/>
    public void Dispose()
    {
        DatabaseState.Evaluated = null;
        meter.Dispose();
    }

    private sealed record Figure(KeyValuePair<string, object?>[] Tags, double? Exposure, double? Restore, string Verdict);

    private IEnumerable<Measurement<double>> Figures(Func<Figure, double?> value) => Now().Where(f => value(f) is not null).Select(f => new Measurement<double>(value(f)!.Value, f.Tags));

    /// <summary>The figures of all databases; three instruments read the same ones.</summary>
    private IReadOnlyList<Figure> Now()
    {
        lock (gate)
        {
            if (figures.Figures is null || Stopwatch.GetElapsedTime(figures.At) > Kept)
            {
                var now = clock.GetCurrentInstant();
                var databases = fleet.Fleet.Databases;
                var each = new Figure[databases.Count][];
                Parallel.For(0, each.Length, i => each[i] =
                [
                    .. fleet[databases[i].Id].Judge(now, true, plans).ByLoss.Select(l => new Figure(
                        [new("database", databases[i].Id.Value), new("loss", l.Kind.ToString().ToLowerInvariant())],
                        l.Figures.ExposureSeconds(now),
                        l.Figures.Path?.ServiceSeconds,
                        PlainVerdict(l.Judgement.Verdict))),
                ]);
                figures = (Stopwatch.GetTimestamp(), [.. each.SelectMany(e => e)]);
            }

            return figures.Figures;
        }
    }

    private static string PlainVerdict(Verdict verdict) => Core.Formats.PlanFile.Name(verdict);

    /// <summary>Nothing, rather than a wrong number, while PostgreSQL cannot be asked.</summary>
    private IEnumerable<Measurement<long>> Count(string sql)
    {
        try
        {
            using var command = source.CreateCommand(sql);
            command.CommandTimeout = 5;
            return [new Measurement<long>((long)command.ExecuteScalar()!)];
        }
        catch (NpgsqlException)
        {
            return [];
        }
    }
}
