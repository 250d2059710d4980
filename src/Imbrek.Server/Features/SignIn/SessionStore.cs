using System.Security.Claims;
using System.Security.Cryptography;
using Imbrek.Data;
using Imbrek.Server.Features.Live;
using Imbrek.Server.Security;
using Microsoft.AspNetCore.Authentication;
using Microsoft.AspNetCore.Authentication.Cookies;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.SignIn;

/// <summary>
/// Sessions on the server: the cookie holds a number that nobody can guess, the table its hash. So a session ends when somebody signs out, is
/// disabled, gets another role or another password, on all server processes, and its event streams with it; and it ends after
/// <see cref="Longest"/> however much it is used. By the machine's clock, whatever the clock of a demo says.
/// </summary>
internal sealed class SessionStore(NpgsqlDataSource source, IDataProtectionProvider protection, Peers peers, TimeProvider time) : ITicketStore
{
    /// <summary>How long a session lives without being used.</summary>
    public static readonly TimeSpan Idle = TimeSpan.FromHours(12);

    /// <summary>How long it lives at most.</summary>
    public static readonly TimeSpan Longest = TimeSpan.FromDays(3);

    private const string NumberItem = "imbrek.session";
    private const string EndItem = "imbrek.ends";
    private readonly IDataProtector protector = protection.CreateProtector("imbrek.sessions");

    private Instant Now => Instant.FromDateTimeOffset(time.GetUtcNow());

    /// <summary>The number of the session a request is made in, and when it ends at the latest; null for a token.</summary>
    public static (string Session, DateTimeOffset EndsAt)? Of(HttpContext http) =>
        http.Features.Get<IAuthenticateResultFeature>()?.AuthenticateResult?.Properties is { } p && p.Items.TryGetValue(NumberItem, out var number) && number is not null
            && p.Items.TryGetValue(EndItem, out var ends) && DateTimeOffset.TryParse(ends, System.Globalization.CultureInfo.InvariantCulture, out var at)
            ? (number, at)
            : null;

    /// <inheritdoc/>
    public async Task<string> StoreAsync(AuthenticationTicket ticket)
    {
        var key = RandomSecret.New();
        var now = Now;
        var id = RandomSecret.Hash(key);
        var ends = now + Duration.FromTimeSpan(Longest);
        ticket.Properties.Items[NumberItem] = id;
        ticket.Properties.Items[EndItem] = ends.ToDateTimeOffset().ToString("O", System.Globalization.CultureInfo.InvariantCulture);
        await using var data = ImbrekDatabase.Context(source);
        await data.Sessions.Where(s => s.EndsAt < now || s.IdleUntil < now).ExecuteDeleteAsync();
        data.Sessions.Add(new SessionRow
        {
            Id = id,
            PersonId = ticket.Principal.FindFirstValue(ClaimTypes.NameIdentifier) ?? "",
            Ticket = Protect(ticket),
            IdleUntil = now + Duration.FromTimeSpan(Idle),
            EndsAt = ends,
        });
        await data.SaveChangesAsync();
        return key;
    }

    /// <inheritdoc/>
    public async Task<AuthenticationTicket?> RetrieveAsync(string key)
    {
        // Every request asks this first; as a query of EF Core it was a third of what a small one took.
        await using var find = source.CreateCommand("select ticket from sessions where id = $1 and ends_at > $2 and idle_until > $2");
        find.Parameters.AddWithValue(RandomSecret.Hash(key));
        find.Parameters.AddWithValue(Now);
        try
        {
            return await find.ExecuteScalarAsync() is byte[] ticket ? TicketSerializer.Default.Deserialize(protector.Unprotect(ticket)) : null;
        }
        catch (CryptographicException)
        {
            // Protected by keys that are gone: whoever it was signs in again.
            return null;
        }
    }

    /// <inheritdoc/>
    public async Task RenewAsync(string key, AuthenticationTicket ticket)
    {
        var (id, ticketNow, idle) = (RandomSecret.Hash(key), Protect(ticket), Now + Duration.FromTimeSpan(Idle));
        await using var data = ImbrekDatabase.Context(source);
        await data.Sessions.Where(s => s.Id == id).ExecuteUpdateAsync(u => u.SetProperty(s => s.Ticket, ticketNow).SetProperty(s => s.IdleUntil, idle));
    }

    /// <inheritdoc/>
    public Task RemoveAsync(string key)
    {
        var id = RandomSecret.Hash(key);
        return EndAsync(q => q.Where(s => s.Id == id), CancellationToken.None);
    }

    /// <summary>Ends all sessions of a person, but for one.</summary>
    public Task EndOfAsync(string person, string? butFor, CancellationToken cancel) => EndAsync(q => q.Where(s => s.PersonId == person && s.Id != butFor), cancel);

    private async Task EndAsync(Func<IQueryable<SessionRow>, IQueryable<SessionRow>> which, CancellationToken cancel)
    {
        await using var data = ImbrekDatabase.Context(source);
        var ended = await which(data.Sessions).Select(s => s.Id).ToArrayAsync(cancel);
        if (ended.Length > 0)
        {
            await data.Sessions.Where(s => ended.Contains(s.Id)).ExecuteDeleteAsync(cancel);
            await peers.TellEndedAsync(ended, cancel);
        }
    }

    private byte[] Protect(AuthenticationTicket ticket) => protector.Protect(TicketSerializer.Default.Serialize(ticket));
}
