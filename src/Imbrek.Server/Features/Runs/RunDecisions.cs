using Imbrek.Core.Formats;
using Imbrek.Core.Moves;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Live;
using Imbrek.Server.Features.Runs.Restore;
using Imbrek.Server.State;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Runs;

/// <summary>What people decide about runs: each decision once, kept before the run hears of it.</summary>
internal sealed class RunDecisions(ImbrekContext data, RunStore store, RunWorker worker, Peers peers, FleetState fleet, IClock clock)
{
    private const int LongestWhy = 500;

    /// <summary>Takes a decision about a step: of two people who decide at the same time one is told.</summary>
    /// <param name="id">The run.</param>
    /// <param name="step">The step; null for the one that is asked about.</param>
    /// <param name="choice">What is chosen.</param>
    /// <param name="approves">Whether it is the approval of a second person, which never comes from whoever asked for the run.</param>
    /// <param name="why">Why, as far as it is said; who refuses to approve must, and who lets clients into what is more open than its source.</param>
    /// <param name="aloneBecause">Why one person approves alone in an emergency; null when nobody does.</param>
    /// <param name="who">Who decides.</param>
    /// <param name="cancel">Breaks it off.</param>
    /// <exception cref="BadInputException">Nobody is asked about it now, or it cannot be chosen.</exception>
    public async Task TakeAsync(
        Guid id, int? step, string? choice, bool approves, string? why, string? aloneBecause, string who, CancellationToken cancel)
    {
        var (row, decisions) = await store.FindAsync(id, cancel) ?? throw new BadInputException("id", "there is no such run", 404, "not-found");
        var now = clock.GetCurrentInstant();
        var run = row.ToRun().Hear(decisions, row.CancelledBy);
        var ask = row.StateIs.IsOver() ? [] : run.Next(now).Ask;
        var number = step ?? ask.Cast<int?>().FirstOrDefault() ?? LastDecided(run);
        if (number is not { } asked || !ask.Contains(asked))
        {
            var by = number is { } n && run.Plan.Steps.Any(s => s.Number == n) && run[n] is { DecidedBy: { } other, Choice: { } chosen } ? $" ({other} chose \"{chosen}\")" : row.CancelledBy is { } c ? $" ({c} cancelled it)" : "";
            throw new BadInputException("step", $"nobody is asked about this now: the run is {PlanFile.Name(row.StateIs)}{by}", 409, "not-now");
        }

        if (run.Plan[asked].IsHold == approves)
        {
            throw new BadInputException("step", approves ? "needs no approval: it is decided" : "needs the approval of a second person", 409, "not-so");
        }

        if (approves && aloneBecause is null && row.AskedBy == who)
        {
            throw new BadInputException("step", "is approved by a second person, not by who asked for the run", 409, "second-person");
        }

        var choices = run.Plan[asked].IsHold ? run.Plan[asked].Choices : [Step.Approve, Step.Refuse];
        if (!choices.Contains(choice ?? ""))
        {
            throw new BadInputException("choice", $"must be one of {string.Join(", ", choices)}");
        }

        if (why?.Length > LongestWhy || (approves && choice == Step.Refuse && string.IsNullOrWhiteSpace(why)))
        {
            throw new BadInputException("why", $"say why in at most {LongestWhy} letters: whoever asked for it will want to know");
        }

        var open = choice is RestoreAside.Release or MoveByRounds.Switch ? MoreOpen.Of(row, fleet.Fleet) : [];
        if (open.Count > 0 && string.IsNullOrWhiteSpace(why))
        {
            throw new BadInputException("why", $"it is more open than its source: {string.Join("; ", open)}. Say why it is released all the same", 409, "more-open");
        }

        await using var transaction = await data.Database.BeginTransactionAsync(cancel);

        // Whoever cancels at the same time waits for this, or this for them: of the two the first holds.
        if (await data.Runs.Where(r => r.Id == id && r.State < (short)RunState.Done && r.CancelledBy == null).ExecuteUpdateAsync(u => u.SetProperty(r => r.Said, r => r.Said + 1), cancel) == 0)
        {
            throw new BadInputException("step", "it was cancelled, or is over", 409, "not-now");
        }

        if (aloneBecause is not null)
        {
            await TellEverybodyAsync(row, run.Plan[asked], aloneBecause, who, now, cancel);
        }
        else if (approves)
        {
            await LedgerTable.AppendAsync(data, now, who, "approval", row.Database, RunJson.Write(new { run = id, kind = row.Kind, step = asked, title = run.Plan[asked].Title, askedBy = row.AskedBy, choice, why }), cancel);
        }

        if (open.Count > 0)
        {
            await LedgerTable.AppendAsync(data, now, who, "more-open", row.Database, RunJson.Write(new { run = id, kind = row.Kind, open, why }), cancel);
        }

        data.Decisions.Add(new DecisionRow { RunId = id, Step = asked, Round = run[asked].Round, Choice = choice!, Who = who, At = now, Why = string.IsNullOrWhiteSpace(why) ? null : why.Trim() });
        try
        {
            await data.SaveChangesAsync(cancel);
            await transaction.CommitAsync(cancel);
        }
        catch (DbUpdateException e) when (e.InnerException is PostgresException { SqlState: PostgresErrorCodes.UniqueViolation })
        {
            throw new BadInputException("step", "somebody else has just decided", 409, "not-now");
        }

        worker.Wake(id);
        await peers.TellAsync([], [id], cancel);
    }

    /// <summary>Cancels a run; once it is told, it holds.</summary>
    /// <param name="id">The run.</param>
    /// <param name="who">Who cancels it.</param>
    /// <param name="cancel">Gives up.</param>
    /// <returns>False when it cannot be cancelled any more, or somebody has.</returns>
    public async Task<bool> CancelAsync(Guid id, string who, CancellationToken cancel)
    {
        if (await data.Runs.Where(r => r.Id == id && r.State < (short)RunState.Done && r.CancelledBy == null && !r.NoWayBack)
            .ExecuteUpdateAsync(u => u.SetProperty(r => r.CancelledBy, who).SetProperty(r => r.Said, r => r.Said + 1), cancel) == 0)
        {
            return false;
        }

        worker.Wake(id);
        await peers.TellAsync([], [id], cancel);
        return true;
    }

    private async Task TellEverybodyAsync(RunRow row, Step step, string why, string who, Instant now, CancellationToken cancel)
    {
        data.Notices.Add(new NoticeRow
        {
            FirstAt = now,
            LastAt = now,
            GroupKey = $"alone|{row.Id}|{step.Number}",
            Kind = "alone",
            People = await data.Users.Select(u => u.UserName!).Order().ToArrayAsync(cancel),
            Subject = $"{who} decided alone what needs a second person: {step.Title}. Because: {why}",
            Count = 1,
            Databases = [row.Database],
        });
        await LedgerTable.AppendAsync(data, now, who, "break-glass", row.Database, RunJson.Write(new { run = row.Id, step = step.Number, title = step.Title, why }), cancel);
    }

    private static int? LastDecided(Run run) => run.Plan.Steps.LastOrDefault(s => run[s.Number].Choice is not null)?.Number;
}
