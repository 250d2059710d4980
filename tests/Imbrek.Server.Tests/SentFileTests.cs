using System.Text;
using Imbrek.Server.Features.Files;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http;
using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>Files that a form brings: each as it was sent, however it comes, and what is no such form is named.</summary>
public class SentFileTests
{
    private const string Two = "--b\r\nContent-Disposition: form-data; name=fleet; filename=\"f.json\"\r\n\r\n{}\r\n--b\r\nContent-Disposition: form-data; name=\"catalogue\"\r\n\r\nline\r\n--b--\r\n";

    [Theory]
    [InlineData(1)]
    [InlineData(1_000)]
    [InlineData(int.MaxValue)]
    public async Task Each_is_as_it_was_sent_whether_or_not_it_was_said_how_long_it_is(int atOnce)
    {
        Assert.Equal([("fleet", "f.json", "{}"), ("catalogue", "catalogue", "line")], await ReadAsync(Two, atOnce: atOnce));

        // Longer than what is taken at first, by several times, to the byte.
        foreach (var length in atOnce == 1 ? [] : new[] { 0, (1 << 20) - 1, 1 << 20, (1 << 20) + 1, 5_000_001 })
        {
            var content = string.Concat(Enumerable.Range(0, (length / 7) + 1).Select(i => $"{i % 1_000_000,6}\n"))[..length];
            foreach (var announced in new[] { true, false })
            {
                var read = await ReadAsync(Two.Replace("line", content, StringComparison.Ordinal), announced, atOnce);
                Assert.Equal(2, read.Count);
                Assert.True(content == read[1].Text, $"{length} bytes, {read[1].Text.Length} read");
            }
        }
    }

    [Theory]
    [InlineData("body", "multipart/form-data", Two)]
    [InlineData("body", "nonsense", Two)]
    [InlineData("body", "multipart/form-data; boundary=b", "--b\r\nContent-Disposition: form-data; name=fleet; filename=f\r\n\r\nends here")]
    [InlineData("body", "multipart/form-data; boundary=b", "")]
    [InlineData("other", "multipart/form-data; boundary=b", "--b\r\nContent-Disposition: form-data; name=other; filename=f\r\n\r\n{}\r\n--b--\r\n")]
    [InlineData("", "multipart/form-data; boundary=b", "--b\r\nX: y\r\n\r\n{}\r\n--b--\r\n")]
    [InlineData("fleet", "multipart/form-data; boundary=b", "--b\r\nContent-Disposition: form-data; name=fleet; filename=f\r\n\r\n{}\r\n--b\r\nContent-Disposition: form-data; name=fleet; filename=f\r\n\r\n{}\r\n--b--\r\n")]
    public async Task What_is_no_such_form_is_refused_by_its_member(string member, string type, string body) =>
        Assert.Equal(member, (await Assert.ThrowsAsync<BadInputException>(() => ReadAsync(body, type: type))).Member);

    [Fact]
    public async Task A_name_or_headers_without_end_are_refused()
    {
        Assert.Equal("fleet", (await Assert.ThrowsAsync<BadInputException>(() => ReadAsync(Two.Replace("f.json", new string('f', 201), StringComparison.Ordinal)))).Member);
        Assert.Equal("body", (await Assert.ThrowsAsync<BadInputException>(() => ReadAsync(Two.Replace("f.json", new string('f', 1_000_000), StringComparison.Ordinal)))).Member);
        Assert.Equal("body", (await Assert.ThrowsAsync<BadInputException>(() => ReadAsync(Two, type: $"multipart/form-data; boundary={new string('b', 129)}"))).Member);
    }

    private static async Task<List<(string Member, string Name, string Text)>> ReadAsync(string body, bool announced = true, int atOnce = int.MaxValue, string type = "multipart/form-data; boundary=\"b\"")
    {
        var bytes = Encoding.UTF8.GetBytes(body);
        var http = new DefaultHttpContext();
        (http.Request.ContentType, http.Request.ContentLength, http.Request.Body) = (type, announced ? bytes.Length : null, new Dripping(bytes, atOnce));
        var read = new List<(string, string, string)>();
        await foreach (var file in SentFile.OfAsync(http.Request, ["fleet", "catalogue"], TestContext.Current.CancellationToken))
        {
            read.Add((file.Member, file.Name, Encoding.UTF8.GetString(file.Bytes.Span)));
        }

        return read;
    }

    /// <summary>Gives no more than so many bytes at once, as a connection does.</summary>
    private sealed class Dripping(byte[] bytes, int atOnce) : MemoryStream(bytes)
    {
        public override ValueTask<int> ReadAsync(Memory<byte> buffer, CancellationToken cancellationToken = default) => base.ReadAsync(buffer[..Math.Min(buffer.Length, atOnce)], cancellationToken);
    }
}
