using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Server.Features.Replicas;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Runs.MendReplica;

/// <summary>Brings back a replica that cannot go on by itself: by log, by a set left unopened and the log after it, or anew; then it catches up, is proved, and is watched.</summary>
internal sealed class MendReplicaKind(Drivers drivers, FleetState fleet, ReplicaBook book, IClock clock) : ReplicaKind(drivers, fleet, book, clock)
{
    public const string KindName = "mend-replica";

    /// <summary>What was asked.</summary>
    /// <param name="Replica">Which replica.</param>
    /// <param name="By">Which way.</param>
    /// <param name="Host">The host it lies on.</param>
    /// <param name="Logs">The log backups applied to it, where it is mended by log.</param>
    public sealed record Question(string Replica, Mending.By By, string Host, IReadOnlyList<RestoreAside.Piece> Logs) : About(Replica);

    public override IReadOnlyList<string> Names { get; } = [KindName];

    /// <summary>The steps of a way.</summary>
    public static (Question Asked, Run Run) Plan(RecoverySubject subject, Replica replica, Mending.Way way)
    {
        var host = replica.Place.Hosts[0].Value;
        var logs = way.By == Mending.By.Log ? (way.Sets?.Steps ?? []).Select(s => new RestoreAside.Piece(s.Set.Value, s.Store.Value, s.Seconds)).ToArray() : [];
        var steps = new List<Step>();
        steps.Add(Next(steps, "begin", "It counts for nothing until it is back", replica.Id.Value, undo: Undo.Own));
        switch (way.By)
        {
            case Mending.By.Log:
                steps.Add(Next(steps, "mend", logs.Length == 0 ? "Go on with what its source still keeps" : $"Apply {logs.Length} log {(logs.Length == 1 ? "set" : "sets")}", replica.Id.Value, way.Sets?.Seconds ?? 2));
                break;
            case Mending.By.Set:
                AddPath(steps, subject.Database, way.Sets!, replica.Id);
                break;
            default:
                steps.Add(Next(steps, "copy", "Copy the database", replica.Id.Value, way.Seconds));
                break;
        }

        AddProof(steps, replica, way.Seconds is { } all ? Math.Max(1, all - steps.Sum(s => s.ExpectedSeconds ?? 0)) : null);
        return (new Question(replica.Id.Value, way.By, host, logs), Run.Of(new RunPlan(steps)));
    }

    public override async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var asked = run.Question<Question>();
        switch (step.Kind)
        {
            case "begin":
                await Book.SeedAsync(new(asked.Replica), run.Row.Id, cancel);
                return new StepResult();
            case "mend":
                return ReplicaSteps.Of(await Driver(run).MendAsync(run.Call, new(asked.Replica), [.. asked.Logs.Select(l => new SetCopy(new Id<BackupSet>(l.Set), new(l.Store)))], cancel));
            default:
                return await DoSharedAsync(run, step, asked.Host, progress, cancel) ?? throw new InvalidOperationException(step.Kind);
        }
    }

    public override Task UndoAsync(RunContext run, Step step, CancellationToken cancel) =>
        step.Kind == "begin" ? Book.SeedAsync(ReplicaOf(run), null, cancel) : base.UndoAsync(run, step, cancel);

    protected override string Done(RunContext run) => $"{run.Question<Question>().Replica} is back, by {run.Question<Question>().By switch { Mending.By.Log => "log", Mending.By.Set => "a set and log", _ => "a copy of its database" }}";
}
