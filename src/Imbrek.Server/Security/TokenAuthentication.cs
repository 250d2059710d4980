using System.Security.Claims;
using System.Text.Encodings.Web;
using Imbrek.Data;
using Microsoft.AspNetCore.Authentication;
using Microsoft.AspNetCore.Identity;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Security;

/// <summary>Knows who asks by <c>Authorization: Bearer …</c>. A request that carries one is never looked at for a cookie.</summary>
internal sealed class TokenAuthentication(IOptionsMonitor<AuthenticationSchemeOptions> options, ILoggerFactory log, UrlEncoder encoder, NpgsqlDataSource source)
    : AuthenticationHandler<AuthenticationSchemeOptions>(options, log, encoder)
{
    /// <summary>The name of the scheme, and the type of the identity it gives.</summary>
    public const string Name = "token";

    /// <summary>The scheme that chooses between this and the cookie.</summary>
    public const string Either = "token-or-session";

    private const string Prefix = "Bearer ";
    private const int LongestToken = 200;

    /// <summary>The scheme a request asks for.</summary>
    public static string SchemeOf(HttpContext http) => http.Request.Headers.Authorization.Count > 0 ? Name : IdentityConstants.ApplicationScheme;

    /// <summary>Whether somebody is known by a token.</summary>
    public static bool IsToken(ClaimsPrincipal user) => user.Identity?.AuthenticationType == Name;

    /// <inheritdoc/>
    protected override async Task<AuthenticateResult> HandleAuthenticateAsync()
    {
        var said = Request.Headers.Authorization.ToString();
        if (!said.StartsWith(Prefix, StringComparison.OrdinalIgnoreCase) || said.Length > LongestToken)
        {
            return AuthenticateResult.Fail("no bearer token");
        }

        var (hash, now) = (RandomSecret.Hash(said[Prefix.Length..].Trim()), NodaTime.SystemClock.Instance.GetCurrentInstant());
        await using var data = ImbrekDatabase.Context(source);
        var token = await data.Tokens.AsNoTracking().SingleOrDefaultAsync(t => t.Hash == hash && t.RevokedAt == null && t.EndsAt > now, Context.RequestAborted);
        if (token is null)
        {
            return AuthenticateResult.Fail("unknown, revoked or over");
        }

        if (!(token.UsedAt > now - Duration.FromMinutes(1)))
        {
            await data.Tokens.Where(t => t.Id == token.Id).ExecuteUpdateAsync(u => u.SetProperty(t => t.UsedAt, now), Context.RequestAborted);
        }

        var identity = new ClaimsIdentity(
            [new Claim(ClaimTypes.Name, $"token:{token.Name}"), new Claim(ClaimTypes.NameIdentifier, $"token:{token.Id}"), new Claim(ClaimTypes.Role, token.Role)], Name);
        return AuthenticateResult.Success(new AuthenticationTicket(new ClaimsPrincipal(identity), Name));
    }

    /// <inheritdoc/>
    protected override Task HandleChallengeAsync(AuthenticationProperties properties)
    {
        Response.Headers.WWWAuthenticate = "Bearer";
        return Problems.WriteAsync(Context, 401, "not-signed-in", "", "This token is not known, was revoked, or its time is over.");
    }

    /// <inheritdoc/>
    protected override Task HandleForbiddenAsync(AuthenticationProperties properties) => Problems.WriteAsync(Context, 403, "not-allowed", "", "The role of this token does not allow this.");
}
