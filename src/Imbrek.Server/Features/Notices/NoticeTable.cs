using System.Runtime.CompilerServices;
using Imbrek.Core.Notices;
using Imbrek.Data;
using Microsoft.EntityFrameworkCore;

namespace Imbrek.Server.Features.Notices;

/// <summary>Writes notices: a row for each, which grows as the same cause comes again, whichever process opened it.</summary>
internal sealed class NoticeTable
{
    private readonly ConditionalWeakTable<Notice, Place> places = [];

    /// <summary>The row a notice is in, and what it counted before the notice was opened here.</summary>
    private sealed record Place(long Row, int Before);

    /// <summary>Writes what is new or has grown; inside the caller's transaction, after which the book is told that it was kept.</summary>
    public async Task WriteAsync(NoticeBook book, ImbrekContext data, CancellationToken cancel)
    {
        foreach (var n in book.Changed)
        {
            // A row written by a transaction that was rolled back is not there.
            var row = places.TryGetValue(n, out var place) ? await data.Notices.SingleOrDefaultAsync(r => r.Id == place.Row, cancel) : null;
            var before = row is null ? 0 : place!.Before;
            if (row is null)
            {
                // Another process may have opened the message before this one led.
                row = await data.Notices.Where(r => r.GroupKey == n.Cause && r.LastAt >= n.First - NoticeBook.Together && r.LastAt <= n.First)
                    .OrderByDescending(r => r.LastAt).FirstOrDefaultAsync(cancel);
                before = row?.Count ?? 0;
            }

            if (row is null)
            {
                row = new NoticeRow { FirstAt = n.First, GroupKey = n.Cause, Kind = n.Kind };
                data.Notices.Add(row);
            }

            row.Subject = n.Subject;
            row.People = [.. row.People.Union(n.People).Order(StringComparer.Ordinal)];
            row.LastAt = n.Last;
            row.Count = before + n.Count;
            row.Databases = [.. row.Databases.Union(n.Databases).Order(StringComparer.Ordinal)];
            await data.SaveChangesAsync(cancel);
            places.AddOrUpdate(n, new Place(row.Id, before));
        }
    }
}
