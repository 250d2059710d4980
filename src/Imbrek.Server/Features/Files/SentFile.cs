using System.Runtime.CompilerServices;
using Imbrek.Core.Formats;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Connections;
using Microsoft.AspNetCore.Http.Features;
using Microsoft.AspNetCore.WebUtilities;
using Microsoft.Net.Http.Headers;

namespace Imbrek.Server.Features.Files;

/// <summary>A file that a form brought.</summary>
/// <param name="Member">As which member of the form.</param>
/// <param name="Name">Its name; that of the member where it has none.</param>
/// <param name="Bytes">What it holds.</param>
internal sealed record SentFile(string Member, string Name, ReadOnlyMemory<byte> Bytes)
{
    /// <summary>A file takes so much at first, and twice as much whenever that is full: nobody takes memory by announcing what never comes.</summary>
    private const int AtFirst = 1 << 20;

    private const int BytesARead = 1 << 17, LongestName = 200;

    /// <summary>The files of a form one after another, each as soon as it has come, read once, straight to where it stays.</summary>
    /// <param name="request">The request; no larger than an array can be.</param>
    /// <param name="members">The members it may have, each once.</param>
    /// <param name="cancel">Breaks it off.</param>
    /// <exception cref="BadInputException">The form cannot be read, or has another member.</exception>
    public static async IAsyncEnumerable<SentFile> OfAsync(HttpRequest request, string[] members, [EnumeratorCancellation] CancellationToken cancel)
    {
        var boundary = HeaderUtilities.RemoveQuotes(MediaTypeHeaderValue.TryParse(request.ContentType, out var type) ? type.Boundary : default).Value;
        if (string.IsNullOrEmpty(boundary) || boundary.Length > FormOptions.DefaultMultipartBoundaryLengthLimit)
        {
            throw new BadInputException("body", "a form of files is expected (multipart/form-data, with its boundary)");
        }

        var (form, seen) = (new MultipartReader(boundary, request.Body, BytesARead), new HashSet<string>());
        while (await ReadAsync(() => form.ReadNextSectionAsync(cancel)) is { } section)
        {
            var described = section.GetContentDispositionHeader();
            var member = HeaderUtilities.RemoveQuotes(described?.Name ?? default).Value ?? "";
            if (!members.Contains(member))
            {
                throw new BadInputException(InputBounds.Quote(member), $"is not known: send {string.Join(" or ", members)}");
            }

            if (!seen.Add(member))
            {
                throw new BadInputException(member, "is sent twice");
            }

            var name = described!.FileNameStar.HasValue ? described.FileNameStar.Value : HeaderUtilities.RemoveQuotes(described.FileName).Value;
            if (name?.Length > LongestName)
            {
                throw new BadInputException(member, $"its file has a name of more than {LongestName} characters");
            }

            yield return new(member, string.IsNullOrEmpty(name) ? member : name, await ReadAsync(() => BytesAsync(section.Body, request.ContentLength, cancel)));
        }
    }

    private static async Task<ReadOnlyMemory<byte>> BytesAsync(Stream from, long? most, CancellationToken cancel)
    {
        var (bytes, length) = (GC.AllocateUninitializedArray<byte>(AtFirst), 0);
        while (await from.ReadAsync(bytes.AsMemory(length), cancel) is > 0 and var read)
        {
            length += read;
            if (length == bytes.Length)
            {
                // No file is longer than the whole request.
                var larger = GC.AllocateUninitializedArray<byte>((int)Math.Min(2L * length, Math.Max(most ?? Array.MaxLength, length + 1)));
                bytes.CopyTo(larger, 0);
                bytes = larger;
            }
        }

        return bytes.AsMemory(0, length);
    }

    /// <summary>A form that ends in its middle, or is none, is bad input; a client that is gone, or sends too much, is not.</summary>
    private static async Task<T> ReadAsync<T>(Func<Task<T>> read)
    {
        try
        {
            return await read();
        }
        catch (Exception e) when (e is InvalidDataException || (e is IOException and not (BadHttpRequestException or ConnectionResetException)))
        {
            throw new BadInputException("body", $"the form cannot be read: {e.Message}");
        }
    }
}
