using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Recovery;

namespace Imbrek.Core.Changes;

/// <summary>What a rehearsal cannot show (ways, section 10), computed of the database, its change and the host of the copy.</summary>
public static class NotTested
{
    /// <summary>It, in words.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="change">The change.</param>
    /// <param name="host">Where the copy is made.</param>
    /// <param name="whole">Whether what is called a database is a whole instance.</param>
    public static IReadOnlyList<string> Of(RecoverySubject subject, Change change, Host host, bool whole)
    {
        var (fleet, d) = (subject.Fleet, subject.Database);
        var list = new List<string> { "Clients and their drivers: nobody is let into the copy", "The work of others at the same time: the copy is alone on what it asks" };
        if (ChangeForecast.ScaleOf(fleet, d, host) is var scale && ChangeForecast.IsOtherSpeed(scale))
        {
            list.Add($"The speed of {d.Host}: {host.Id} writes at {scale:0.##} times its rate; seconds are scaled by that");
        }

        if (subject.Replicas.Count > 0)
        {
            list.Add($"Replicas: {Words(subject.Replicas.Select(r => r.Replica.Id.Value))} {(subject.Replicas.Count == 1 ? "is" : "are")} not part of the copy{(change.ToVersion is null ? "" : ", and must be seeded anew after a move to another version")}");
        }

        var beside = fleet.Databases.Where(o => o.Id != d.Id && !o.IsInstanceData && o.Host == d.Host && o.Engine == d.Engine).Select(o => o.Name).ToArray();
        if (change.ToVersion is not null && !whole && beside.Length > 0)
        {
            list.Add($"Others of the same engine on {d.Host}: {Words(beside)}. Where they share an instance they move with it");
        }

        if (change.Queries.Count == 0)
        {
            list.Add("How fast it answers: no query is named in the change");
        }

        return [.. list, .. Prechecks.DoesNotComeAlong(fleet, d, host, whole).Take(5)];
    }

    private static string Words(IEnumerable<string> names)
    {
        string[] all = [.. names];
        return all.Length <= 4 ? string.Join(", ", all) : $"{string.Join(", ", all.Take(4))} and {all.Length - 4} more";
    }
}
