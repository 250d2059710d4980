using System.Text.Json;
using Imbrek.Core.Formats;
using Imbrek.Server.State;

namespace Imbrek.Server.Security;

/// <summary>
/// Looks at every text of a request before anything else does: what is too long, holds control characters or half a character is refused
/// with its place, so that no handler, table or screen ever meets it.
/// </summary>
internal sealed class RequestCheck(RequestDelegate next)
{
    /// <summary>What people write freely, over several lines.</summary>
    private static readonly HashSet<string> Free = ["query", "reason", "title"];

    public async Task InvokeAsync(HttpContext http)
    {
        foreach (var (name, values) in http.Request.Query)
        {
            Check(InputBounds.Quote(name), name, false);
            foreach (var value in values)
            {
                Check(InputBounds.Quote(name), value, Free.Contains(name));
            }
        }

        foreach (var (name, value) in http.Request.RouteValues)
        {
            Check(name, value as string, false);
        }

        if (http.Request.HasJsonContentType())
        {
            using var buffer = new MemoryStream((int)Math.Min(http.Request.ContentLength ?? 0, RequestLimits.BodyBytes));
            await http.Request.Body.CopyToAsync(buffer, http.RequestAborted);
            CheckTexts(buffer.GetBuffer().AsSpan(0, (int)buffer.Length));
            buffer.Position = 0;
            http.Request.Body = buffer;
            await next(http);
            return;
        }

        await next(http);
    }

    private static void Check(string member, string? text, bool lines)
    {
        if (text is not null && InputBounds.WhatIsWrong(text, InputBounds.Reason, lines) is { } wrong)
        {
            throw new BadInputException(member, wrong);
        }
    }

    /// <exception cref="BadInputException">A text cannot be used; names its member.</exception>
    private static void CheckTexts(ReadOnlySpan<byte> utf8)
    {
        var reader = new Utf8JsonReader(utf8);
        var path = new Stack<(string? Name, int Index)>();
        var name = "";
        try
        {
            while (reader.Read())
            {
                switch (reader.TokenType)
                {
                    case JsonTokenType.PropertyName:
                        name = reader.GetString()!;
                        Check(Place(), name, false);
                        break;
                    case JsonTokenType.StartObject:
                        path.Push((InArray() ? null : name, -1));
                        break;
                    case JsonTokenType.StartArray:
                        path.Push((InArray() ? null : name, 0));
                        continue;
                    case JsonTokenType.EndObject or JsonTokenType.EndArray:
                        path.Pop();
                        break;
                    case JsonTokenType.String:
                        Check(Place(), reader.GetString(), Free.Contains(name));
                        break;
                }

                if (reader.TokenType is not (JsonTokenType.PropertyName or JsonTokenType.StartObject) && InArray())
                {
                    var list = path.Pop();
                    path.Push((list.Name, list.Index + 1));
                }
            }
        }
        catch (JsonException)
        {
            // Whoever reads it says what is wrong with it.
        }
        catch (InvalidOperationException)
        {
            throw new BadInputException(Place(), "holds a text that is not valid UTF-8, or half a character");
        }

        // What stands in a list has no name of its own.
        bool InArray() => path.TryPeek(out var list) && list.Index >= 0;

        string Place()
        {
            var parts = path.Reverse().Skip(1).Select(p => p.Index < 0 ? p.Name : $"{p.Name}[{p.Index}]").Where(p => !string.IsNullOrEmpty(p)).Select(p => InputBounds.Quote(p!));
            return string.Join('.', path.TryPeek(out var at) && at.Index < 0 ? parts.Append(InputBounds.Quote(name)) : parts);
        }
    }
}
