using System.Text.Json;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Diagnostics;
using Microsoft.AspNetCore.Mvc;
using Microsoft.EntityFrameworkCore;
using Npgsql;

namespace Imbrek.Server.Security;

/// <summary>Errors as problem details: what happened, a code for programs, the member at fault; never a stack trace.</summary>
internal sealed class Problems(ILogger<Problems> log) : IExceptionHandler
{
    /// <inheritdoc/>
    public async ValueTask<bool> TryHandleAsync(HttpContext httpContext, Exception exception, CancellationToken cancellationToken)
    {
        switch (exception)
        {
            case BadInputException e:
                if (e.RetryAfter is { } wait)
                {
                    httpContext.Response.Headers.RetryAfter = Math.Ceiling(wait.TotalSeconds).ToString(System.Globalization.CultureInfo.InvariantCulture);
                }

                await WriteAsync(httpContext, e.Status, e.Code, e.Member, Sentence(e.Message));
                break;
            case BadHttpRequestException e:
                var (member, said) = e.InnerException is JsonException json ? (json.Path?.TrimStart('$').TrimStart('.') ?? "", Said(json)) : BodyIsMissing(e) ? ("", "the body is missing")
                    : (MemberIn(e.Message), e.Message);
                await WriteAsync(httpContext, e.StatusCode, "bad-request", member, Sentence(said));
                break;
            case OperationCanceledException when httpContext.RequestAborted.IsCancellationRequested:
                httpContext.Response.StatusCode = 499;
                break;
            case PostgresException e when !Away(e.SqlState):
            case DbUpdateException { InnerException: PostgresException inner } when !Away(inner.SqlState):
                log.LogError(exception, "PostgreSQL refused what a request asked of it");
                await WriteAsync(httpContext, 500, "fault", "", "Something went wrong on our side. Nothing was changed by this request; the log says more.");
                break;
            case DbUpdateException { InnerException: NpgsqlException }:
            case NpgsqlException or InvalidOperationException { InnerException: NpgsqlException }:
                log.LogError(exception, "PostgreSQL failed a request");
                await WriteAsync(httpContext, 503, "database-away", "", "PostgreSQL cannot be reached just now. Nothing was changed; try again in a moment.");
                break;
            default:
                log.LogError(exception, "A request failed");
                await WriteAsync(httpContext, 500, "fault", "", "Something went wrong on our side. Nothing was changed by this request as far as we know; the log says more.");
                break;
        }

        return true;
    }

    /// <summary>Writes problem details.</summary>
    public static Task WriteAsync(HttpContext http, int status, string code, string member, string detail)
    {
        http.Response.StatusCode = status;
        var problem = new ProblemDetails { Status = status, Title = detail, Extensions = { ["code"] = code } };
        if (member.Length > 0)
        {
            problem.Extensions["member"] = member;
        }

        return http.Response.WriteAsJsonAsync(problem, options: null, contentType: "application/problem+json");
    }

    /// <summary>Whether PostgreSQL says that it cannot serve anybody just now: connections (08), resources (53), shutting down (57P).</summary>
    private static bool Away(string state) => state.StartsWith("08", StringComparison.Ordinal) || state.StartsWith("53", StringComparison.Ordinal) || state.StartsWith("57P", StringComparison.Ordinal);

    /// <summary>The two ways in which the framework says that a body is empty or <c>null</c>.</summary>
    private static bool BodyIsMissing(BadHttpRequestException e) =>
        e.Message.Contains("from body", StringComparison.Ordinal) || e.Message.Contains("no body was provided", StringComparison.Ordinal);

    /// <summary>What is wrong with a body, without the names of our types.</summary>
    private static string Said(JsonException e) => e.Message.StartsWith("expected", StringComparison.Ordinal) ? e.Message.Split(" Path:")[0]
        : e.Message.Contains("could not be converted", StringComparison.Ordinal) ? "is not what is expected here"
        : e.Message.Contains("missing required", StringComparison.Ordinal) ? "a member is missing"
        : "the body is not valid JSON";

    private static string Sentence(string message) => message.Length == 0 ? message : char.ToUpperInvariant(message[0]) + message[1..];

    /// <summary>The parameter a binding error names: <c>… "Instant target" …</c>.</summary>
    private static string MemberIn(string message)
    {
        var quoted = message.Split('"');
        return quoted.Length > 1 ? quoted[1].Split(' ')[^1] : "";
    }
}
