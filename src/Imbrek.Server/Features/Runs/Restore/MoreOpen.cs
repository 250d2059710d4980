using Imbrek.Core.Fleet;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Runs.ApplyLog;
using Imbrek.Server.Features.Runs.DumpedMove;
using Imbrek.Server.Features.Runs.Move;
using Imbrek.Server.Features.Runs.RestoreTogether;
using Imbrek.Server.Features.Runs.SecondDatabase;

namespace Imbrek.Server.Features.Runs.Restore;

/// <summary>In what that which a run would let clients into is more open than its source: whoever releases it says why, and that is kept.</summary>
internal static class MoreOpen
{
    /// <summary>In what, a line each; empty for a run that lets nobody in, or whose release is decided elsewhere.</summary>
    public static IReadOnlyList<string> Of(RunRow run, FleetModel fleet) => run.Question is not { } question ? [] : run.Kind switch
    {
        // One of those that are restored together is decided about with them.
        RestoreKind.KindName when run.AfterId is null => Of(fleet, run.Database, RestoreQuestion.Of(run)!.Host),
        MoveKind.KindName or DumpedMoveKind.KindName or SecondDatabaseKind.KindName => Of(fleet, run.Database, RestoreQuestion.Of(run)!.Host),
        ApplyLogKind.KindName => RunJson.Read<ApplyLogKind.Question>(question) is { Opens: true } opened ? Of(fleet, run.Database, opened.Of.Host) : [],
        RestoreTogetherKind.KindName => [.. RunJson.Read<RestoreTogetherKind.Question>(question).Members.SelectMany(m => Of(fleet, m.Database, m.Host).Select(l => $"{m.Database}: {l}"))],
        _ => [],
    };

    /// <summary>The same of a database that is restored to a host.</summary>
    public static IReadOnlyList<string> Of(FleetModel fleet, string database, string host, bool byRule = false) =>
        fleet.DatabaseById.TryGetValue(new(database), out var d) && fleet.Hosts.TryGetValue(new(host), out var there) ? Openness.Of(fleet.Hosts[d.Host], there, byRule) : [];
}
