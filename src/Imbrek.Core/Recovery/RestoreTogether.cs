using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Runs;
using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>
/// Several databases brought to one common instant (ways, section 5): each is restored aside by a run of its own and held; people look once at all of them, and all are released together or thrown away together.
/// </summary>
public static class RestoreTogether
{
    /// <summary>The most databases of one.</summary>
    public const int MostMembers = 100;

    private const double LongestSeconds = 7 * 86_400, TogetherSeconds = 3;

    /// <summary>A database of it.</summary>
    /// <param name="Database">The database.</param>
    /// <param name="Host">Where it is restored.</param>
    /// <param name="Seconds">How long that is expected to take until it is ready for a look.</param>
    /// <param name="Needs">The places, among those before it, of instance data that must be ready first.</param>
    public sealed record Member(Id<Database> Database, Id<Host> Host, double Seconds, IReadOnlyList<int>? Needs = null);

    /// <summary>The order in which databases go: instance data before all else, the machine first of that; then the smaller RTO.</summary>
    /// <param name="subjects">The databases.</param>
    public static IReadOnlyList<RecoverySubject> InOrder(IEnumerable<RecoverySubject> subjects) =>
        [.. subjects.OrderBy(s => s.Database.Turn).ThenBy(s => s.Objective?.RtoSeconds ?? double.PositiveInfinity)];

    /// <summary>The steps.</summary>
    /// <param name="members">The databases, in the order in which they go first.</param>
    /// <param name="to">The common instant.</param>
    /// <param name="slots">How many restores a host carries at once.</param>
    /// <exception cref="ArgumentException">No database, or too many.</exception>
    public static RunPlan Of(IReadOnlyList<Member> members, Instant to, Func<Id<Host>, int> slots)
    {
        if (members.Count is 0 or > MostMembers)
        {
            throw new ArgumentException($"1 to {MostMembers} databases are brought to one instant", nameof(members));
        }

        var turns = InTurn.After([.. members.Select(m => m.Host)], slots);
        var hold = members.Count + 1;
        return new RunPlan(
        [
            .. members.Select((m, i) => new Step
            {
                Number = i + 1,
                Kind = "restore",
                Title = $"Restore {m.Database} aside on {m.Host} to {Instants.Write(to)}, and hold it",
                Subject = m.Database.Value,
                After = [.. (turns[i] is { } before ? new[] { before } : []).Concat(m.Needs ?? []).Distinct().Select(n => n + 1)],
                ExpectedSeconds = m.Seconds,
                ExpectedFrom = "profile",
                TimeLimitSeconds = LongestSeconds,
                Attempts = 3,
                BackOffSeconds = 2,
                Undo = Undo.Own,
                Work = $$"""{"member":{{i}}}""",
            }),
            new Step
            {
                Number = hold,
                Kind = "hold",
                Title = members.Count == 1 ? "It is held: nobody is let in until somebody has looked" : $"All {members.Count} are held: nobody is let in, to any of them, until somebody has looked",
                After = [.. Enumerable.Range(1, members.Count)],
                Choices = [RestoreAside.Release, RestoreAside.ThrowAway],
                Owner = "operate",
            },
            Last(hold + 1, "release", "Let clients in, to all", RestoreAside.Release),
            Last(hold + 2, "discard", "Throw all away", RestoreAside.ThrowAway),
        ]);

        Step Last(int number, string kind, string title, string choice) => new()
        {
            Number = number,
            Kind = kind,
            Title = title,
            After = [hold],
            Only = new(hold, choice),
            ExpectedSeconds = TogetherSeconds,
            ExpectedFrom = "profile",
            TimeLimitSeconds = LongestSeconds,
            Attempts = 3,
            BackOffSeconds = 2,
            NoWayBack = kind == "release",
        };
    }
}
