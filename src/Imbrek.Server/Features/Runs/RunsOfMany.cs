using System.Security.Cryptography;
using Imbrek.Core.Drivers;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Runs;

/// <summary>
/// A run over the runs of several databases: each has one of its own that does and measures, under an identifier that follows from the one of all, so that it is begun once whatever is killed when. What people decide
/// about all is passed on to each.
/// </summary>
internal static class RunsOfMany
{
    private static readonly Duration LookAgain = Duration.FromSeconds(1);

    /// <summary>What is passed on: a choice where a run asks about a kind of step, and who made it.</summary>
    public sealed record Pass(string Kind, string Choice, string Who);

    /// <summary>The identifier of the run of one of its databases.</summary>
    public static Guid IdOf(Guid run, int member) => new(SHA256.HashData([.. run.ToByteArray(), .. BitConverter.GetBytes(member)]).AsSpan(0, 16));

    /// <summary>Keeps the run of a database, once, as one that followed the one of all.</summary>
    /// <exception cref="DriverException">Somebody else has what it claims.</exception>
    public static async Task<StepResult> KeepAsync(RunContext run, Guid id, RunRow row, IServiceProvider services, CancellationToken cancel)
    {
        (row.Id, row.AfterId) = (id, run.Row.Id);
        return await services.GetRequiredService<NewRuns>().TryBeginAsync(row, cancel) ? new StepResult() : throw new DriverException(DriverProblem.Refused, $"{row.Database}: somebody else is at it");
    }

    /// <summary>Passes decisions on until each run asks about a kind of step, or is over.</summary>
    /// <param name="run">The one of all.</param>
    /// <param name="of">What all of them are, in words.</param>
    /// <param name="members">The databases, each with its run.</param>
    /// <param name="services">Where to look and decide.</param>
    /// <param name="now">The instant.</param>
    /// <param name="until">The kind of step; null until each is over.</param>
    /// <param name="pass">What is passed on.</param>
    /// <param name="cancel">Breaks it off.</param>
    /// <param name="all">Whether none may be over yet.</param>
    public static async Task<StepResult> DriveAsync(
        RunContext run, string of, IReadOnlyList<(string Database, Guid Id)> members, IServiceProvider services, Instant now, string? until, IReadOnlyList<Pass> pass, CancellationToken cancel, bool all = false)
    {
        var (store, decide) = (services.GetRequiredService<RunStore>(), services.GetRequiredService<RunDecisions>());
        var (waits, over, reached) = (new List<string>(), new List<string>(), 0);
        var rows = await store.FindAsync([.. members.Select(d => d.Id)], cancel);
        foreach (var (database, id) in members)
        {
            if (!rows.TryGetValue(id, out var found) || found.Row.StateIs.IsOver())
            {
                over.Add(database);
                continue;
            }

            var (row, decisions) = found;
            var its = row.ToRun().Hear(decisions, row.CancelledBy);
            var asks = its.Next(now).Ask.Select(n => its.Plan[n]).ToArray();
            if (until is not null && asks.Any(s => s.Kind == until))
            {
                reached++;
                continue;
            }

            waits.Add(database);
            foreach (var (s, p) in asks.SelectMany(s => pass.Where(p => p.Kind == s.Kind).Select(p => (s, p))))
            {
                try
                {
                    await decide.TakeAsync(id, s.Number, p.Choice, approves: !s.IsHold, null, p.Who == row.AskedBy && !s.IsHold ? $"decided for all of {of}" : null, p.Who, cancel);
                }
                catch (BadInputException e) when (e.Status == StatusCodes.Status409Conflict)
                {
                    // It was decided in the same moment, by somebody or by this before it was killed; the next look shows what came of it.
                }
            }
        }

        return all && over.Count > 0 ? new StepResult($"not ready: {string.Join(", ", over)}", Failed: true)
            : waits.Count > 0 ? new StepResult($"waits for {string.Join(", ", waits.Take(5))}{(waits.Count > 5 ? $" and {waits.Count - 5} more" : "")}", LookAgainAfter: LookAgain)
            : until is null || reached == 0 ? new StepResult("all are over")
            : new StepResult($"{reached} {(reached == 1 ? "waits" : "wait")} for people{(over.Count == 0 ? "" : $"; over already: {string.Join(", ", over)}")}");
    }
}
