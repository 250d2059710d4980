using Imbrek.Core.Fleet;
using Imbrek.Core.Timetable;

namespace Imbrek.Core.Moves;

/// <summary>The figures of a move that the fleet knows, with where each is from; whoever plans it may say otherwise (ways, section 2).</summary>
/// <param name="Question">The figures.</param>
/// <param name="ChangeFrom">Where the rate of change is from.</param>
/// <param name="RateFrom">What sets the rate.</param>
public sealed record MoveFigures(MoveQuestion Question, string ChangeFrom, string RateFrom)
{
    /// <summary>What a move may take of a link, so that backups and log still get through.</summary>
    public const double ShareOfLink = 0.25;

    /// <summary>Seconds to start and end a round, and for accounts, jobs and settings, where nobody has said more.</summary>
    public const double RoundSeconds = 20, MetadataSeconds = 60, WindowSeconds = 300;

    private const double DaySeconds = 86_400;

    /// <summary>The figures of a database and a host.</summary>
    /// <param name="fleet">The fleet.</param>
    /// <param name="database">The database.</param>
    /// <param name="to">Where it is to live.</param>
    /// <param name="load">What is known of its changes.</param>
    /// <returns>Null where nothing links the two, so that nothing can be moved.</returns>
    public static MoveFigures? Of(FleetModel fleet, Database database, Host to, DatabaseLoad load)
    {
        var (from, engine) = (fleet.Hosts[database.Host], fleet.Engines[database.Engine]);
        var link = from.Site == to.Site ? null : fleet.LinkBetween(from.Site, to.Site);
        if (from.Site != to.Site && link is null)
        {
            return null;
        }

        (double Rate, string From)[] limits =
        [
            (to.WriteBytesPerSecond, $"what {to.Id} can write"),
            (engine.RestoreBytesPerSecond, $"what {engine.Name} can load"),
            .. link is null ? Array.Empty<(double, string)>() : [(link.BytesPerSecond * ShareOfLink, $"a quarter of the link from {from.Site} to {to.Site}")],
        ];
        var (rate, rateFrom) = limits.MinBy(l => l.Rate);
        return new(
            new MoveQuestion(
                database.SizeBytes,
                load.ChangeBytesPerDay / DaySeconds,
                rate,
                RoundSeconds,
                WindowSeconds,
                MetadataSeconds,
                database.CheckSeconds,

                // What does not know what changed is read whole each time, as fast as it can be loaded.
                engine.TracksChanges ? null : engine.RestoreBytesPerSecond),
            load.ChangeBytesPerDay == database.ChangeBytesPerDay ? "as stated in the fleet" : load.FromRuns ? "learned from its sets" : "a twentieth a day, as nobody has said more",
            rateFrom);
    }
}
