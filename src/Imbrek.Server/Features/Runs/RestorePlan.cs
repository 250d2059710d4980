using System.Text.Json;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Data;
using Imbrek.Server.Features.Recover;
using NodaTime;

namespace Imbrek.Server.Features.Runs;

/// <summary>A restore path as a run: what is kept in PostgreSQL before anything is touched.</summary>
internal static class RestorePlan
{
    /// <summary>What was asked.</summary>
    public sealed record Asked(string Loss, Instant Target, Instant? At, string? Query, string? Without = null);

    /// <summary>What was planned.</summary>
    public sealed record Planned(Instant Reaches, double LostSeconds, double Seconds, double ServiceSeconds, string Source, IReadOnlyList<string> Avoided);

    /// <summary>The copies a step reads, and where the last log is stopped.</summary>
    public sealed record Work(IReadOnlyList<Piece> Pieces, Instant? StopAt);

    /// <summary>One copy to read.</summary>
    public sealed record Piece(string Set, string Store, double ProfileSeconds);

    /// <summary>Makes the run; it begins when a process takes it.</summary>
    public static RunRow Make(
        Core.Fleet.Database database, RestorePath path, RecoverEndpoints.RestoreRequest request, Loss loss, string instance, string who, Instant now)
    {
        var run = new RunRow
        {
            Id = Guid.CreateVersion7(),
            Kind = "restore",
            Database = database.Id.Value,
            State = RunState.Queued,
            Host = path.Host.Value,
            Instance = instance,
            Request = JsonSerializer.Serialize(new Asked(loss.ToString(), request.Target, request.At, request.Query, request.Without), RunJson.Options),
            CreatedBy = who,
            CreatedAt = now,
        };
        SetPath(run, database, path, []);
        return run;
    }

    /// <summary>Gives a run its steps, or other steps when a copy failed it.</summary>
    public static void SetPath(RunRow run, Core.Fleet.Database database, RestorePath path, IReadOnlyList<string> avoided)
    {
        run.Plan = JsonSerializer.Serialize(
            new Planned(path.Reaches, path.LostSeconds, path.Seconds, path.ServiceSeconds, path.UsesLearned ? "learned" : "profile", avoided), RunJson.Options);
        var steps = run.Steps;
        Add("provision", $"Make an empty instance {run.Instance} on {path.Host}", path.ProvisionSeconds, null);
        foreach (var step in path.Steps.Where(s => s.Kind != SetKind.Log))
        {
            Add("restore", $"Restore {step.Kind.ToString().ToLowerInvariant()} {step.Set} from {step.Store}", step.Seconds, new Work([Cut(step)], null));
        }

        var logs = path.Steps.Where(s => s.Kind == SetKind.Log).ToArray();
        if (logs.Length > 0)
        {
            Add(
                "logs",
                $"Apply {logs.Length} log {(logs.Length == 1 ? "set" : "sets")} up to {Core.Formats.Instants.Write(path.Reaches)}",
                logs.Sum(l => l.Seconds),
                new Work([.. logs.Select(Cut)], logs[^1].StopsAt));
        }

        Add("open", "Open it for those who check it, and for nobody else", path.OpenSeconds, null);
        Add("check", "Check digest, rows and markers", database.CheckSeconds, null);
        Add("hold", "Hold: nobody is let in until somebody has looked", null, null);
        Add("release", "Let clients in", database.RedirectSeconds, null);

        void Add(string kind, string title, double? seconds, Work? work)
        {
            var ordinal = steps.Count + 1;
            steps.Add(new StepRow
            {
                RunId = run.Id,
                Ordinal = ordinal,
                Kind = kind,
                Title = title,
                After = ordinal == 1 || kind == "provision" ? [] : [ordinal - 1],
                State = StepState.Waiting,
                PlannedSeconds = seconds,
                Work = JsonSerializer.Serialize(work ?? new Work([], null), RunJson.Options),
            });
        }

        static Piece Cut(PathStep s) => new(s.Set.Value, s.Store.Value, s.Learned is { } l ? s.Seconds / l.Median : s.Seconds);
    }
}
