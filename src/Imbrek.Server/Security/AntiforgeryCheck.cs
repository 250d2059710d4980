using Microsoft.AspNetCore.Antiforgery;
using Microsoft.AspNetCore.Authorization;

namespace Imbrek.Server.Security;

/// <summary>
/// Whatever changes state for somebody who is signed in must carry the token that only our own page can read. A script's own token is not sent by
/// any browser by itself, so it needs none;
/// nor does what anybody may ask for, signed in or not.
/// </summary>
internal sealed class AntiforgeryCheck(RequestDelegate next, IAntiforgery antiforgery)
{
    public async Task InvokeAsync(HttpContext http)
    {
        var changes = !(HttpMethods.IsGet(http.Request.Method) || HttpMethods.IsHead(http.Request.Method) || HttpMethods.IsOptions(http.Request.Method));
        if (changes && http.User.Identity?.IsAuthenticated == true && !TokenAuthentication.IsToken(http.User) && http.GetEndpoint()?.Metadata.GetMetadata<IAllowAnonymous>() is null
            && !await antiforgery.IsRequestValidAsync(http))
        {
            await Problems.WriteAsync(http, 400, "token-missing", "X-Imbrek-Token", "The request did not come from a page of this server. Load the page again.");
            return;
        }

        await next(http);
    }
}
