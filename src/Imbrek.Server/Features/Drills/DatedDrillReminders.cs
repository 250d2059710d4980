using Imbrek.Data;
using Imbrek.Server.State;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Drills;

/// <summary>Tells people of drills with a date: the day before, when one was not held, and after a day to whom that escalates. Each message once, whichever process looks.</summary>
internal sealed class DatedDrillReminders(NpgsqlDataSource source, IClock clock, IHostApplicationLifetime life, ILogger<DatedDrillReminders> log) : Looking(Often, "Drills with a date are not told of for the moment", life, log)
{
    /// <summary>How long after its date a drill may begin without being missed.</summary>
    public static readonly Duration Grace = Duration.FromHours(1);

    /// <summary>How long before its date people are told again.</summary>
    public static readonly Duration Before = Duration.FromDays(1);

    private static readonly Duration EscalatesAfter = Duration.FromDays(1);

    /// <inheritdoc/>
    protected override Task LookAsync(CancellationToken cancel) => TellAsync(clock.GetCurrentInstant(), cancel);

    private async Task TellAsync(Instant now, CancellationToken cancel)
    {
        await using var data = ImbrekDatabase.Context(source);
        var soon = now + Before;
        foreach (var d in await data.DatedDrills.AsNoTracking().Where(d => d.RunId == null && d.CalledOffBy == null && d.At <= soon && d.Told < 3).ToListAsync(cancel))
        {
            var stage = now >= d.At + EscalatesAfter ? 3 : now >= d.At + Grace ? 2 : 1;
            if (stage <= d.Told)
            {
                continue;
            }

            await using var transaction = await data.Database.BeginTransactionAsync(cancel);
            if (await data.DatedDrills.Where(x => x.Id == d.Id && x.Told < stage && x.RunId == null && x.CalledOffBy == null).ExecuteUpdateAsync(u => u.SetProperty(x => x.Told, stage), cancel) == 1)
            {
                var sentence = DatedDrillEndpoints.Sentence(d);
                data.Notices.Add(stage switch
                {
                    1 => DatedDrillEndpoints.Notice(d, "soon", $"A drill is near. {sentence}", d.People, now),
                    2 => DatedDrillEndpoints.Notice(d, "missed", $"A drill was not held. {sentence}", d.People.Append(d.AskedBy), now),
                    _ => DatedDrillEndpoints.Notice(d, "escalated", $"A drill has not been held for a day. {sentence}", d.Escalate.Length > 0 ? d.Escalate : d.People.Append(d.AskedBy), now),
                });
                await data.SaveChangesAsync(cancel);
                await transaction.CommitAsync(cancel);
            }
        }
    }
}
