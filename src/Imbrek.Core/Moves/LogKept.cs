using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using NodaTime;

namespace Imbrek.Core.Moves;

/// <summary>
/// A database that discards its log keeps it for as long as something follows it (ways, section 16): that is a setting of its host, changed by a step and set back by another. Log follows no set from before, so a full is
/// taken once it is kept, outside the chain, and what follows begins with that.
/// </summary>
/// <param name="Take">How the full is taken.</param>
/// <param name="Seconds">Seconds it is expected to take; null where nothing tells.</param>
public sealed record LogKept(TakeSpec Take, double? Seconds)
{
    /// <summary>What the setting is while log is kept, and what it is otherwise.</summary>
    public const string Kept = "kept", Discarded = "discarded";

    private const string Prefix = "log of ";

    /// <summary>Stands for the set that the run itself takes, until it has.</summary>
    private static readonly Id<BackupSet> ToBeTaken = new("to-be-taken");

    /// <summary>The setting that says whether a database keeps its log.</summary>
    public static string SettingOf(Id<Database> database) => Prefix + database;

    /// <summary>The database whose log a setting is about; null for any other setting.</summary>
    public static Id<Database>? DatabaseOf(string setting) => setting.StartsWith(Prefix, StringComparison.Ordinal) ? new(setting[Prefix.Length..]) : null;

    /// <summary>What must be changed so that log can follow; nothing where it is kept anyway.</summary>
    public static IReadOnlyList<NeededSetting> NeedsOf(Database database) =>
        database.LogMode == LogMode.Kept ? [] : [new NeededSetting(database.Host, SettingOf(database.Id), Kept, Discarded)];

    /// <summary>The full that is taken then; null where its log is kept anyway, or no plan says where a full would go.</summary>
    /// <param name="fleet">The fleet.</param>
    /// <param name="database">The database.</param>
    public static TakeSpec? FullOf(FleetModel fleet, Database database) => database.LogMode == LogMode.Discarded ? RestoreInPlace.Saves(fleet, database) : null;

    /// <summary>The database as if the full had been taken, and nothing else: what paths to another host can begin with.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="storedBytes">Bytes the full is expected to store.</param>
    /// <param name="now">The instant.</param>
    public RecoverySubject After(RecoverySubject subject, double storedBytes, Instant now)
    {
        var d = subject.Database;
        var full = new BackupSet
        {
            Id = ToBeTaken,
            Database = d.Id,
            Kind = Take.Kind,
            Branch = d.LiveBranch,
            ToPosition = subject.Catalogue.Sets.Select(s => s.ToPosition).DefaultIfEmpty().Max(),
            CoversTo = now,
            FinishedAt = now,
            DataBytes = d.SizeBytes,
            OutsideChain = true,
            Key = Take.Key,
            Copies = [new(new(Take.Store), now, null, null, (long)storedBytes, CopyState.Unverified)],
        };
        return RecoverySubject.Of(subject.Fleet, d, new DatabaseCatalogue(d.Id, [full]));
    }

    /// <summary>The step that takes it.</summary>
    /// <param name="steps">The steps before it.</param>
    internal Step ToTake(List<Step> steps)
    {
        var title = $"Take a {Take.Kind.ToString().ToLowerInvariant()} outside the chain: log follows none from before it was kept";
        return RestoreAside.Next(steps, LogRounds.Save, title, Take.Store, Seconds is { } s ? (s, "profile") : null, Undo.Nothing, null) with { Work = RunJson.Write(Take) };
    }

    /// <summary>Whether a step restores what its own run takes.</summary>
    public static bool Restores(Step step) => RestoreAside.PiecesOf(step) is [var piece] && piece.Set == ToBeTaken.Value;

    /// <summary>The same step with the set that was taken.</summary>
    public static Step With(Step step, Id<BackupSet> set) => step with { Work = RunJson.Write(new RestoreAside.Work([RestoreAside.PiecesOf(step)[0] with { Set = set.Value }], null)) };
}
