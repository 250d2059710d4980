using System.Text.Json.Nodes;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Formats;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Server.Features.Fleet;
using Imbrek.Server.Features.Replicas;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Runs.SetUpReplica;

/// <summary>Brings a replica into being: what it needs is tried, it is named in the fleet, seeded the faster way, catches up, is proved, and is watched.</summary>
internal sealed class SetUpReplicaKind(Drivers drivers, FleetState fleet, ReplicaBook book, FleetChanges changes, IClock clock) : ReplicaKind(drivers, fleet, book, clock)
{
    public const string KindName = "set-up-replica";

    /// <summary>What was asked.</summary>
    /// <param name="Replica">Its identifier.</param>
    /// <param name="Part">It as it stands in the fleet file.</param>
    /// <param name="Group">The group its database joins; null to leave that as it is.</param>
    /// <param name="Host">The host it is seeded on.</param>
    public sealed record Question(string Replica, string Part, string? Group, string Host) : About(Replica);

    public override IReadOnlyList<string> Names { get; } = [KindName];

    /// <summary>The steps, the faster way to seed among them.</summary>
    public static (Question Asked, Run Run) Plan(RecoverySubject subject, Replica replica, JsonObject part, string? group, Seeding.Way way)
    {
        var steps = new List<Step>();
        steps.Add(Next(steps, "try", "Try what it needs: sign-in, link, port, share, room, clocks, backups of its source", replica.Id.Value, 3, undo: Undo.Nothing) with { Attempts = 2 });
        steps.Add(Next(steps, "name", "Name it in the fleet; it counts for nothing yet", replica.Id.Value, 1, undo: Undo.Own));
        if (way.Path is { } path)
        {
            AddPath(steps, subject.Database, path, replica.Id);
        }
        else
        {
            steps.Add(Next(steps, "copy", $"Copy {subject.Database.Name} over{(replica.LinkIn(subject.Fleet, out var apart) is { } l && apart ? $" the link of {l.BytesPerSecond / 1e6:0.#} MB/s; its host reads as much meanwhile" : "")}", replica.Id.Value, way.Seconds));
        }

        AddProof(steps, replica, Math.Max(1, way.Seconds - steps.Sum(s => s.ExpectedSeconds ?? 0)));
        return (new Question(replica.Id.Value, part.ToJsonString(), group, replica.Place.Hosts[0].Value), Run.Of(new RunPlan(steps)));
    }

    public override async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var asked = run.Question<Question>();
        switch (step.Kind)
        {
            case "try":
                var read = ReplicaParts.Read(Fleet.Fleet, asked.Replica, JsonNode.Parse(asked.Part)!.AsObject());
                return ReplicaSteps.Of([.. await Driver(run).TryAsync(run.Call, read, cancel), BackupsOfSource(run)]);
            case "name":
                return await NameReplicaAsync(run, new(asked.Replica), JsonNode.Parse(asked.Part)!.AsObject(), changes.Joins(asked.Group, run.Row.Database), changes, cancel);
            default:
                return await DoSharedAsync(run, step, asked.Host, progress, cancel) ?? throw new InvalidOperationException(step.Kind);
        }
    }

    public override Task UndoAsync(RunContext run, Step step, CancellationToken cancel) =>
        step.Kind == "name" ? TakeBackReplicaAsync(run, ReplicaOf(run), changes, cancel) : base.UndoAsync(run, step, cancel);

    protected override string Done(RunContext run) => $"{run.Question<Question>().Replica} is in step and proved";

    /// <summary>Its source has backups, and one exists: what replaces a lost primary must be protected itself.</summary>
    private CheckResult BackupsOfSource(RunContext run)
    {
        var subject = Fleet[run.Row.Database].Subject;
        var newest = subject.Catalogue.Sets.Where(s => s.Kind != SetKind.Log && s.Copies.Any(c => c.RemovedAt is null && c.State != CopyState.Damaged)).MaxBy(s => s.CoversTo);
        var planned = subject.Fleet.BackupPlansOf(subject.Database).Count > 0;
        return new("backups of its source", newest is not null && planned, newest is null ? "there is no backup of its source" : planned ? $"the newest whole one is of {Instants.Write(newest.CoversTo)}" : "no plan covers its source");
    }
}
