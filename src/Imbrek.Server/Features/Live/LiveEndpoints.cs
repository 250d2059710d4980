using System.Net.ServerSentEvents;
using System.Runtime.CompilerServices;
using System.Security.Claims;
using Imbrek.Server.Features.SignIn;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;

namespace Imbrek.Server.Features.Live;

/// <summary><c>GET /api/events</c>: what changes, as server-sent events, until the session ends.</summary>
internal static class LiveEndpoints
{
    public static void Map(IEndpointRouteBuilder app) =>
        app.MapGet("/api/events", Open).Needs(Roles.Look).WithName("Events").ExcludeFromDescription();

    private static ServerSentEventsResult<string> Open(LiveEvents live, IHostApplicationLifetime life, HttpContext http, TimeProvider time)
    {
        var session = SessionStore.Of(http);
        var listener = live.Listen(http.User.FindFirstValue(ClaimTypes.NameIdentifier) ?? "", session?.Session);
        if (listener is null)
        {
            throw new BadInputException("", $"too many pages listen already (at most {LiveEvents.MostOfOne} of one person); close some", 429, "too-many") { RetryAfter = TimeSpan.FromSeconds(10) };
        }

        http.Response.RegisterForDispose(listener);
        var ends = CancellationTokenSource.CreateLinkedTokenSource(http.RequestAborted, life.ApplicationStopping);
        http.Response.RegisterForDispose(ends);
        if (session is { } s && s.EndsAt - time.GetUtcNow() is var left && left < TimeSpan.FromDays(20))
        {
            ends.CancelAfter(left > TimeSpan.Zero ? left : TimeSpan.Zero);
        }

        return TypedResults.ServerSentEvents(Stream(listener, ends.Token));
    }

    private static async IAsyncEnumerable<SseItem<string>> Stream(LiveEvents.Listener listener, [EnumeratorCancellation] CancellationToken cancel)
    {
        yield return new SseItem<string>("{}", "hello");
        await foreach (var e in listener.Events.Reader.ReadAllAsync(cancel))
        {
            yield return new SseItem<string>(e.Data, e.Name);
        }
    }
}
